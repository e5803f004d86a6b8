package engine

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/storetest"
)

func TestAJournalRowKeepsEveryBit(t *testing.T) {
	readings := column.New(1, 0)
	for i, v := range []float64{
		0, math.Copysign(0, -1), 7.82, -99.9, 1e300, math.Pi, float64(float32(4.56)), math.MaxFloat64,
		math.SmallestNonzeroFloat64, 3e15, 12345678901234, -0.000001, math.Inf(1), math.NaN(),
	} {
		readings.Add(1_772_000_000_123_456_000+int64(i)*1000, v)
	}
	summaries := rollup.NewBlock(series.Gauge, 2)
	for i := range int64(2) {
		start := i * int64(time.Minute)
		rollup.Summary{
			Count:   6,
			Mean:    1.0 / 3,
			M2:      0.2,
			Min:     -1,
			Max:     9,
			First:   1,
			Last:    2,
			MinAt:   start,
			MaxAt:   start + 1,
			FirstAt: start,
			LastAt:  start + 59e9,
			Covered: time.Minute,
			Held:    2.0 / 3,
		}.AddTo(&summaries,
			start, series.Gauge)
	}
	entries := []Entry{
		{Series: 7, Rows: readings},
		{Series: 1 << 29, Tier: series.Minute, Rows: summaries}, {Series: 9, Rows: storetest.Readings(-5, 1)},
	}
	sketches := []Sketch{{Series: 3, Start: 900e9}, {Series: 3, Start: 1800e9}, {Series: 4, Start: -900e9}}
	payload, err := encodeJournal(entries, sketches)
	require.NoError(t, err)
	back, marked, err := decodeJournal(payload)
	require.NoError(t, err)
	require.Len(t, back, 3)
	for i, e := range entries {
		assert.Equal(t, e.Series, back[i].Series)
		assert.Equal(t, e.Tier, back[i].Tier)
		assert.Equal(t, e.Rows.Times, back[i].Rows.Times)
		for c := range e.Rows.Cols {
			for k, v := range e.Rows.Cols[c] {
				assert.Equal(t, math.Float64bits(v), math.Float64bits(back[i].Rows.Cols[c][k]),
					"entry %d, column %d, row %d", i, c, k)
			}
		}
	}
	assert.Equal(t, sketches, marked)
	empty, err := encodeJournal([]Entry{{Series: 1}}, nil)
	require.NoError(t, err)
	assert.Nil(t, empty)
	_, err = encodeJournal([]Entry{{Series: 1, Rows: column.Block{Times: []int64{2, 1}, Cols: [][]float64{{1, 2}}}}},
		nil)
	assert.ErrorContains(t, err, "ascend")
}

func TestAJournalRowIsSmall(t *testing.T) {
	var entries []Entry
	at := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC).UnixNano()
	for i := range 100 {
		b := column.New(1, 1)
		b.Add(at+int64(i)*1e6, float64(700+i)/100)
		entries = append(entries, Entry{Series: uint32(i + 1), Rows: b})
	}
	payload, err := encodeJournal(entries, nil)
	require.NoError(t, err)
	assert.Less(t, len(payload), 100*10, "a dozen bytes a reading would already be much")
}

func FuzzJournal(f *testing.F) {
	good, err := encodeJournal([]Entry{
		{Series: 7, Rows: storetest.Readings(1, 2.5, 3, 4)},
		{Series: 8, Tier: series.Minute, Rows: storetest.Minutes(0, 2)},
	}, []Sketch{{Series: 1, Start: 900e9}})
	require.NoError(f, err)
	f.Add(good)
	f.Add([]byte{journalVersion, 0, 0, 0, 0, 9})
	f.Fuzz(func(t *testing.T, data []byte) {
		if entries, _, err := decodeJournal(data); err == nil {
			for _, e := range entries {
				require.NoError(t, e.Rows.Check())
				require.True(t, e.Rows.Ordered())
			}
		}
		if len(data) >= journalHead { // past the checksum
			d := journalDecoder{left: data[journalHead:], scale: 1}
			d.rows(Entry{}, uint64(data[0]))
		}
	})
}
