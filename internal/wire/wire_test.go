package wire

import (
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
)

func summaries(kind series.Kind) Run {
	raw, out := column.New(1, 0), rollup.NewBlock(kind, 0)
	def := series.Definition{
		Path:     "long-mere/buoy-1/oxygen",
		Kind:     kind,
		Unit:     "mg/l",
		FreshFor: 90 * time.Second,
		Labels:   "depth=3m",
	}
	for i := range int64(10) {
		raw.Add(i*int64(time.Minute)+7, float64(i)/10)
		rollup.Fold(raw, i*int64(time.Minute), (i+1)*int64(time.Minute), &def).AddTo(&out, i*int64(time.Minute), kind)
	}
	return Run{Def: def, Tier: series.Minute, Rows: out}
}

func TestABatchArrivesAsItWasSent(t *testing.T) {
	runs := []Run{
		summaries(series.Gauge), summaries(series.Counter), summaries(series.State), summaries(series.Bearing),
	}
	runs[1].Def.Wrap = 65536
	runs[2].Rows.Cols[rollup.ColStates][3] = math.NaN() // more states than can be told apart
	data, err := EncodeBatch(runs, series.Tiers{}.All(), nil)
	require.NoError(t, err)
	got, err := DecodeBatch(data)
	back, at, bad := got.Runs, got.At, got.Bad
	require.NoError(t, err)
	assert.Empty(t, bad)
	assert.Equal(t, []int{0, 1, 2, 3}, at)
	assert.True(t, math.IsNaN(back[2].Rows.Cols[rollup.ColStates][3]))
	back[2].Rows.Cols[rollup.ColStates][3], runs[2].Rows.Cols[rollup.ColStates][3] = 0, 0
	assert.Equal(t, runs, back)

	e := Envelope{
		Version: Oldest,
		Speaks:  Version,
		Gateway: "long-mere",
		Session: "s",
		Number:  4,
		Acked:   Position{"life", 7},
		Batch:   data,
		Status:  Status{SentAt: time.Unix(9, 5).UTC(), Version: "v", Accepted: 8},
	}
	text, err := e.Encode()
	require.NoError(t, err)
	envelope, err := DecodeEnvelope(text)
	require.NoError(t, err)
	assert.Equal(t, e, envelope)
}

// A receiver takes a series to have the tiers that are sent of it, and no others.
func TestASeriesHasTheTiersThatAreSent(t *testing.T) {
	hourly := summaries(series.Gauge)
	hourly.Def.Tiers, _ = series.ParseTiers([]string{"10s", "1m", "1h"})
	for _, test := range []struct {
		sent []series.Tier
		want []string // of the hourly series and of the usual one
	}{
		{nil, []string{"10s,1m,1h", "10s,1m"}},
		{[]series.Tier{series.Minute}, []string{"1m", "1m"}},
		{[]series.Tier{series.Minute, series.Tier(time.Hour)}, []string{"1m,1h", "1m"}},
	} {
		data, err := EncodeBatch([]Run{hourly, summaries(series.Counter)}, test.sent, nil)
		require.NoError(t, err)
		got, err := DecodeBatch(data)
		back, bad := got.Runs, got.Bad
		require.NoError(t, err)
		require.Empty(t, bad)
		assert.Equal(t, test.want, []string{back[0].Def.Tiers.String(), back[1].Def.Tiers.String()})
	}
}

func TestBatchesThatLieAreRefused(t *testing.T) {
	for _, test := range []struct {
		wrong string
		spoil func(r *Run)
	}{
		{"level 2: is empty", func(r *Run) { r.Def.Path = "a//b" }},
		{"kind \"angle\" is not known", func(r *Run) { r.Def.Kind = "angle" }},
		{"its tier of 7 ns is none of the batch", func(r *Run) { r.Tier = 7 }},
		{"fresh_for of 0 ns", func(r *Run) { r.Def.FreshFor = 0 }},
		{"wrap is -1", func(r *Run) { r.Def.Wrap = -1 }},
		{"column 3 has 9 rows", func(r *Run) { r.Rows.Cols[3] = r.Rows.Cols[3][:9] }},
		{"no multiple of its tier", func(r *Run) { r.Rows.Times[2]++ }},
		{"not within the years 1970 to 2200", func(r *Run) { r.Rows.Times[9] = math.MaxInt64 }},
		{"not within the years 1970 to 2200", func(r *Run) { r.Rows.Times[0] = -int64(time.Minute) }},
		{"counts 0 readings", func(r *Run) { r.Rows.Cols[0][1] = 0 }},
		{"counts 1.5 readings", func(r *Run) { r.Rows.Cols[0][1] = 1.5 }},
		{"has NaN as its mean", func(r *Run) { r.Rows.Cols[1][1] = math.NaN() }},
	} {
		run := summaries(series.Gauge)
		test.spoil(&run)
		data, err := EncodeBatch([]Run{run, summaries(series.Gauge)}, series.Tiers{}.All(), nil)
		require.NoError(t, err)
		got, err := DecodeBatch(data)
		back, at, bad := got.Runs, got.At, got.Bad
		require.NoError(t, err)
		require.Len(t, bad, 1)
		assert.ErrorContains(t, bad[0].Err, test.wrong)
		assert.Equal(t, []int{1}, at, "the other run counts")
		assert.Equal(t, []Run{summaries(series.Gauge)}, back)
	}
}

func TestSketchesTravelBesideSummaries(t *testing.T) {
	sk := sketch.New()
	require.NoError(t, sk.Add(7.5))
	run := Run{Def: summaries(series.Gauge).Def, Sketches: []Sketch{{Start: int64(series.Quarter), Data: sk.Bytes()}}}
	run.Def.Sketch = true
	decode := func(spoil func(*Run)) ([]Run, error) {
		one := run
		one.Sketches = slices.Clone(run.Sketches)
		spoil(&one)
		data, err := EncodeBatch([]Run{one}, series.Tiers{}.All(), nil)
		require.NoError(t, err)
		got, err := DecodeBatch(data)
		runs, bad := got.Runs, got.Bad
		if len(bad) > 0 {
			err = bad[0].Err
		}
		return runs, err
	}
	back, err := decode(func(*Run) {})
	require.NoError(t, err)
	assert.Equal(t, []Run{run}, back)
	_, err = decode(func(r *Run) { r.Sketches[0].Start++ })
	assert.ErrorContains(t, err, "no multiple of its tier")
	_, err = decode(func(r *Run) { r.Sketches[0].Data = []byte{9, 9} })
	assert.ErrorContains(t, err, "reading a sketch")
	_, err = decode(func(r *Run) { r.Def.Sketch = false })
	assert.ErrorContains(t, err, "of a series that has none")
}

func TestColumnsThatAreNotThoseOfTheKindAreRefused(t *testing.T) {
	run := summaries(series.Gauge)
	run.Def.Kind = series.Counter
	_, err := EncodeBatch([]Run{run}, series.Tiers{}.All(), nil)
	assert.ErrorContains(t, err, "a counter, has 13 columns")
	one := run0(summaries(series.Counter))
	one.Columns[13] = "decrease"
	_, err = one.check([]int64{int64(series.TenSecond), int64(series.Minute)})
	assert.ErrorContains(t, err, "of a counter [count mean")
	one = run0(summaries(series.Counter))
	one.Tiers = "10s,15s"
	_, err = one.check([]int64{int64(series.TenSecond), int64(series.Minute)})
	assert.ErrorContains(t, err, "tier 15s is no multiple of the one before it")
}

// run0 returns how a run looks on the wire.
func run0(r Run) run {
	columns, _ := rollup.ColumnsOf(r.Def.Kind, len(r.Rows.Cols))
	out := run{Definition: r.Def, Tier: int64(r.Tier), Columns: columns, Starts: r.Rows.Times}
	for _, col := range r.Rows.Cols {
		out.Values = append(out.Values, col)
	}
	return out
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte{0xa0})
	good, err := Envelope{Gateway: "a", Session: "e", Number: 1, Batch: []byte{1, 2}}.Encode()
	require.NoError(f, err)
	f.Add(good)
	plain, err := encoding.Marshal(batch{Tiers: []int64{1e9}, Series: []run{run0(summaries(series.State))}})
	require.NoError(f, err)
	f.Add(plain)
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _ = DecodeEnvelope(data)
		_, _ = DecodeBatch(compressor.EncodeAll(data, nil))
	})
}
