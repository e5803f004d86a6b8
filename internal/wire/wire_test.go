package wire

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

func summaries(t *testing.T) Run {
	raw, out := column.New(1, 0), rollup.NewBlock(0)
	def := series.Definition{Path: "long-mere/buoy-1/oxygen", Kind: series.Gauge, Unit: "mg/l", FreshFor: 90 * time.Second}
	for i := range int64(10) {
		raw.Add(i*int64(time.Minute)+7, float64(i)/10)
		s, ok := rollup.Fold(raw, i*int64(time.Minute), time.Minute, def)
		require.True(t, ok)
		s.AddTo(&out, i*int64(time.Minute))
	}
	return Run{Def: def, Tier: rollup.Minute, Rows: out}
}

func TestABatchArrivesAsItWasSent(t *testing.T) {
	run := summaries(t)
	data, err := EncodeBatch([]Run{run, run})
	require.NoError(t, err)
	back, err := DecodeBatch(data)
	require.NoError(t, err)
	assert.Equal(t, []Run{run, run}, back)

	e := Envelope{Gateway: "long-mere", Epoch: "e", FirstSeq: 4, Batches: [][]byte{data}, Status: Status{SentAt: time.Unix(9, 5).UTC(), Version: "v", Accepted: 8}}
	text, err := e.Encode()
	require.NoError(t, err)
	got, err := DecodeEnvelope(text)
	require.NoError(t, err)
	assert.Equal(t, e, got)
}

func TestBatchesThatLieAreRefused(t *testing.T) {
	for _, test := range []struct {
		wrong string
		spoil func(r *Run)
	}{
		{"level 2: is empty", func(r *Run) { r.Def.Path = "a//b" }},
		{"kind \"angle\" is not known", func(r *Run) { r.Def.Kind = "angle" }},
		{"are not possible together", func(r *Run) { r.Tier = 7 }},
		{"are not possible together", func(r *Run) { r.Def.FreshFor = 0 }},
		{"13 value columns", func(r *Run) { r.Rows.Cols = r.Rows.Cols[:13] }},
		{"column 3 has 9 rows", func(r *Run) { r.Rows.Cols[3] = r.Rows.Cols[3][:9] }},
		{"no multiple of its tier", func(r *Run) { r.Rows.Times[2]++ }},
		{"counts 0 readings", func(r *Run) { r.Rows.Cols[0][1] = 0 }},
		{"counts 1.5 readings", func(r *Run) { r.Rows.Cols[0][1] = 1.5 }},
		{"has NaN as its mean", func(r *Run) { r.Rows.Cols[1][1] = math.NaN() }},
	} {
		run := summaries(t)
		test.spoil(&run)
		data, err := EncodeBatch([]Run{run})
		require.NoError(t, err)
		_, err = DecodeBatch(data)
		assert.ErrorContains(t, err, test.wrong)
	}
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte{0xa0})
	good, err := Envelope{Gateway: "a", Epoch: "e", FirstSeq: 1, Batches: [][]byte{{1, 2}}}.Encode()
	require.NoError(f, err)
	f.Add(good)
	plain, err := encoding.Marshal(batch{Version: 1, Columns: rollup.Columns, Series: []run{{Path: "a/b", Starts: int64s{0}, Values: []float64s{{1}}}}})
	require.NoError(f, err)
	f.Add(plain)
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _ = DecodeEnvelope(data)
		_, _ = DecodeBatch(compressor.EncodeAll(data, nil))
	})
}
