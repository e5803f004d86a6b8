package query

import (
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

func TestValuesAreCarriedFromBeforeTheRange(t *testing.T) {
	st := stored(t) // up to 08:59:50
	q := ask(t, "#", "10m", "last,count")
	q.Range.From, q.Range.To = begin.Add(90*time.Minute), begin.Add(2*time.Hour)
	for text, want := range map[string][]float64{
		"carry": {359, 359, 359}, "carry:35m": {359, math.NaN(), math.NaN()}, "carry:1h": {359, 359, 359}, "leave": {math.NaN(), math.NaN(), math.NaN()},
	} {
		var err error
		q.Gaps, err = window.ParseGaps(text)
		require.NoError(t, err)
		assert.Equal(t, text, q.Gaps.String())
		got := answer(t, q, from(st, true)).series[0]
		for i := range want {
			assert.True(t, want[i] == got.Rows.Stats[0][i] || math.IsNaN(want[i]) && math.IsNaN(got.Rows.Stats[0][i]),
				"%s: %v", text, got.Rows.Stats[0])
			assert.Equal(t, !math.IsNaN(want[i]), got.Filled[i], text)
			assert.Zero(t, got.Rows.Stats[1][i], "filled rows have no readings")
		}
	}
}

func TestAGroupCountsOnlyThoseThatHaveData(t *testing.T) {
	st := stored(t) // until 09:00
	late := series.Definition{
		Path:     "stony-beck/raceway-2/oxygen",
		Kind:     series.Gauge,
		Unit:     "mg/l",
		FreshFor: time.Minute,
	}
	ids, err := st.Define(t.Context(), []series.Definition{late})
	require.NoError(t, err)
	raw := column.New(1, 0)
	for i := range 6 {
		raw.Add(begin.Add(time.Duration(50+5*i)*time.Minute).UnixNano(), 1000) // from 08:50 to 09:15
	}
	require.NoError(t, st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: ids[0], Rows: raw}}}))
	q := ask(t, "stony-beck/+/oxygen", "20m", "last,count")
	q.Range.To = begin.Add(80 * time.Minute)
	q.Across, err = ParseAcross("mean", "")
	require.NoError(t, err)
	got := answer(t, q, from(st, true)).series[0]
	assert.Equal(t, []float64{119, 239, 679.5, 1000}, got.Rows.Stats[0])
	assert.Equal(t, []float64{1, 1, 2, 1}, got.Rows.Stats[2])
	assert.Equal(t, 2, got.Members)
	q.Across.Function, q.Gaps = "sum", window.Gaps{Mode: window.Number, Value: 1}
	got = answer(t, q, from(st, true)).series[0]
	assert.Equal(t, []float64{120, 240, 1359, 1001}, got.Rows.Stats[0], "what gaps put there counts as well")
	assert.Equal(t, []bool{true, true, false, true}, got.Filled)
}

func TestEstimatesStandOnAllReadingsOrAreNotGiven(t *testing.T) {
	st := empty(t)
	def := series.Definition{Path: "a/b/c", Kind: series.Gauge, Unit: "Cel", FreshFor: time.Minute, Sketch: true}
	put(t, st, def, func(i int) float64 { return float64(100 + i) }) // 08:00 to 09:00, summaries up to 08:58
	known := st.List(everything(t))[0]
	var all []engine.Sketch
	for quarter := range 3 {
		sk := sketch.New()
		for i := range 90 {
			require.NoError(t, sk.Add(float64(100+90*quarter+i)))
		}
		all = append(all, engine.Sketch{
			Series: known.ID,
			Start:  begin.Add(time.Duration(quarter) * 15 * time.Minute).UnixNano(),
			Data:   sk.Bytes(),
		})
	}
	require.NoError(t, st.Append(t.Context(), engine.Batch{Sketches: all}))
	got := answer(t, ask(t, "#", "15m", "p50~,count"), from(st, false)).series[0]
	for i, want := range []float64{144, 234, 324} {
		assert.InEpsilon(t, want, got.Rows.Stats[0][i], 0.011)
	}
	assert.True(t, math.IsNaN(got.Rows.Stats[0][3]), "its sketch is not made yet")
	assert.True(t, math.IsNaN(got.Whole[0]))
	wide := ask(t, "#", "45m", "p50~")
	wide.Range.To = begin.Add(45 * time.Minute)
	wide.Grid.Origin = begin
	got = answer(t, wide, from(st, false)).series[0]
	assert.InEpsilon(t, 234, got.Rows.Stats[0][0], 0.011)
	assert.Equal(t, got.Rows.Stats[0][0], got.Whole[0])
	wide.Units.All = "K"
	got = answer(t, wide, from(st, false)).series[0]
	assert.InDelta(t, 234+273.15, got.Rows.Stats[0][0], 3)
	// Hours that leave the middle quarter out.
	hours, err := window.ParseHours("08:00-08:15")
	require.NoError(t, err)
	part := ask(t, "#", "1h", "p50~,count")
	part.Grid.Hours = hours
	got = answer(t, part, from(st, false)).series[0]
	assert.InEpsilon(t, 144, got.Rows.Stats[0][0], 0.011)
	assert.EqualValues(t, 90, got.Rows.Stats[1][0])
	for text, wrong := range map[string]string{"10m": "multiples of 15m", "1m": "multiples of 15m"} {
		err := ask(t, "#", text, "p50~").Run(t.Context(), from(st, false), &collected{})
		assert.ErrorContains(t, err, wrong)
	}
	err = ask(t, "#", "15m", "p50~").Run(t.Context(), from(stored(t), false), &collected{})
	assert.ErrorContains(t, err, "no sketches are kept")
}

func TestOverlappingWindowsShareTheirSegments(t *testing.T) {
	q := ask(t, "#", "20m", "count,first,last")
	q.Grid.Stride = window.Step{Fixed: 10 * time.Minute}
	got := answer(t, q, from(stored(t), true)).series[0]
	assert.Equal(t, []float64{120, 120, 120, 120, 120, 60}, got.Rows.Stats[0])
	assert.Equal(t, []float64{0, 60, 120, 180, 240, 300}, got.Rows.Stats[1])
	assert.EqualValues(t, 360, got.Whole[0], "the whole counts each reading once")
	q.Grid.Stride, q.Grid.Width, q.Range.To = window.Step{Fixed: time.Minute}, window.Step{Days: 1}, begin.Add(20*time.Hour)
	assert.ErrorContains(t, q.Run(t.Context(), from(stored(t), true), &collected{}),
		"1200 overlapping windows are put together from")
}

func TestLimitsAreThoseOfTheConfiguration(t *testing.T) {
	st := stored(t)
	for rows, fine := range map[int]bool{59: false, 60: true, 61: true} {
		src := Source{Store: st, Limits: config.Queries{MaxRows: rows, MaxSeries: 1, MaxTime: time.Minute}}
		err := ask(t, "#", "1m", "mean").Run(t.Context(), src, &collected{})
		assert.Equal(t, fine, err == nil, "%d: %v", rows, err)
	}
	shifted := ask(t, "#", "1m", "mean")
	shifted.Shift = window.Step{Days: 1}
	src := from(st, true)
	src.Limits.MaxRows = 119
	assert.ErrorContains(t, shifted.Run(t.Context(), src, &collected{}),
		"60 windows of 2 series are 120 rows; at most 119")
}

func TestTheTierIsTheWidestThatIsExact(t *testing.T) {
	st := stored(t)
	for width, tier := range map[string]series.Tier{
		"1m":  series.Minute,
		"1h":  series.Minute,
		"30s": series.TenSecond,
		"90s": series.TenSecond,
		"5s":  series.Readings,
	} {
		assert.Equal(t, tier, answer(t, ask(t, "#", width, "mean"), from(st, true)).series[0].Tier, width)
	}
	assert.Equal(t, series.Readings, answer(t, ask(t, "#", "1h", "p50"), from(st, true)).series[0].Tier,
		"percentiles are from readings")
	// A range relative to now, taken whole, ends on whole minutes; one given by times does not.
	whole := ask(t, "#", "", "count")
	whole.Range = window.Range{From: begin.Add(17 * time.Second), To: begin.Add(3*time.Minute + 3*time.Second)}
	got := answer(t, whole, from(st, true))
	assert.Equal(t, series.Minute, got.series[0].Tier)
	assert.Equal(t, []time.Time{begin, begin.Add(4 * time.Minute)}, []time.Time{got.head.From, got.head.To})
	whole.Range.Exact = true
	got = answer(t, whole, from(st, true))
	assert.Equal(t, series.Readings, got.series[0].Tier)
	assert.Equal(t, []float64{17}, got.series[0].Rows.Stats[0], "20 s to 3 min")
}

func TestSeveralSelectorsAreAnsweredTogetherInTheirOrder(t *testing.T) {
	st := stored(t)
	for _, path := range []string{"a/b/one", "a/b/two", "a/c/one"} {
		put(t, st, series.Definition{
			Path:     series.Path(path),
			Kind:     series.Gauge,
			FreshFor: time.Minute,
		}, func(i int) float64 { return float64(len(path)) })
	}
	names := func(selectors ...string) (out []string, err error) {
		q := ask(t, "#", "15m", "mean")
		q.Select = nil
		for _, text := range selectors {
			one, err := series.ParseSelector(text)
			require.NoError(t, err)
			q.Select = append(q.Select, one)
		}
		var got collected
		err = q.Run(t.Context(), from(st, true), &got)
		for _, s := range got.series {
			out = append(out, s.Name)
		}
		return out, err
	}
	got, err := names("a/+/one", "a/b/two", "a/b/#")
	require.NoError(t, err)
	assert.Equal(t, []string{"a/b/one", "a/c/one", "a/b/two"}, got)
	got, err = names("a/b/two", "a/b/to")
	assert.Empty(t, got)
	assert.EqualError(t, err, `no series matches "a/b/to"; near it are a/b/two, a/b/one`)
	_, err = names("#", "a/#", "a/b/one")
	assert.NoError(t, err)
	var six []string
	for i := range 2 {
		put(t, st, series.Definition{
			Path:     series.Path(fmt.Sprint("d/e/f", i)),
			Kind:     series.Gauge,
			FreshFor: time.Minute,
		}, func(i int) float64 { return 1 })
		six = append(six, "a/#", fmt.Sprint("d/e/f", i))
	}
	_, err = names(append(six, "stony-beck/#")...)
	assert.EqualError(t, err,
		"a/#, d/e/f0, a/#, d/e/f1, stony-beck/# names 6 series; at most 5 are answered at once: name fewer")
}
