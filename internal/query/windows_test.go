package query

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

var begin = time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)

// put writes an hour of a series: readings every ten seconds, 10 s summaries up to 08:58
// and 1 min summaries up to 08:55.
func put(t *testing.T, st *store.Store, def series.Definition, value func(i int) float64) {
	t.Helper()
	ids, err := st.Define(t.Context(), []series.Definition{def})
	require.NoError(t, err)
	raw := column.New(1, 0)
	for i := range 360 {
		raw.Add(begin.Add(time.Duration(i)*10*time.Second).UnixNano(), value(i))
	}
	batch := engine.Batch{Entries: []engine.Entry{{Series: ids[0], Rows: raw}}}
	for tier, until := range map[series.Tier]time.Duration{series.TenSecond: 58 * time.Minute, series.Minute: 55 * time.Minute} {
		rows := rollup.NewBlock(def.Kind, 0)
		for at := time.Duration(0); at < until; at += tier.Width() {
			start := begin.Add(at).UnixNano()
			rollup.Fold(raw, start, start+int64(tier), &def).AddTo(&rows, start, def.Kind)
		}
		batch.Entries = append(batch.Entries, engine.Entry{Series: ids[0], Tier: tier, Rows: rows})
	}
	require.NoError(t, st.Append(t.Context(), batch))
}

func empty(t *testing.T) *store.Store {
	t.Helper()
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	return st
}

// stored has one series, counting up.
func stored(t *testing.T) *store.Store {
	t.Helper()
	st := empty(t)
	put(t, st, series.Definition{
		Path:     "stony-beck/raceway-1/oxygen",
		Kind:     series.Gauge,
		Unit:     "mg/l",
		FreshFor: 15 * time.Second,
	}, func(i int) float64 { return float64(i) })
	return st
}

// asCentral is a store as a central sees it, which has no readings.
type asCentral struct{ *store.Store }

func (c asCentral) List(selector series.Selector) []engine.Series {
	all := c.Store.List(selector)
	for i := range all {
		all[i].Collected = false
	}
	return all
}

func from(st *store.Store, readings bool) Source {
	if !readings {
		return Source{Store: asCentral{st}, Limits: config.Queries{MaxRows: 10_000, MaxSeries: 5, MaxTime: time.Minute}}
	}
	return Source{Store: st, Limits: config.Queries{MaxRows: 10_000, MaxSeries: 5, MaxTime: time.Minute}}
}

func ask(t *testing.T, selector, width, stats string) Windows {
	t.Helper()
	s, err := series.ParseSelector(selector)
	require.NoError(t, err)
	asked, err := window.ParseStats(stats)
	require.NoError(t, err)
	q := Windows{
		Select: []series.Selector{s},
		Range:  window.Range{From: begin, To: begin.Add(time.Hour), Exact: true},
		Stats:  asked,
	}
	if width != "" {
		q.Grid.Width, err = window.ParseStep(width)
		require.NoError(t, err)
	}
	return q
}

func answer(t *testing.T, q Windows, src Source) collected {
	t.Helper()
	var got collected
	require.NoError(t, q.Run(t.Context(), src, &got))
	return got
}

func TestOpenWindowsAreCompletedFromWhatIsFiner(t *testing.T) {
	st := stored(t)
	for _, test := range []struct {
		readings bool
		counts   []float64
		last     float64
	}{
		{true, []float64{90, 90, 90, 90}, 359},
		{false, []float64{90, 90, 90, 78}, 347}, // a central has no readings: up to 08:58
	} {
		got := answer(t, ask(t, "#", "15m", "count,max"), from(st, test.readings)).series[0]
		assert.Equal(t, series.Minute, got.Tier)
		assert.Equal(t, test.counts, got.Rows.Stats[0])
		assert.Equal(t, test.last, got.Whole[1])
	}
}

func TestEveryWidthCountsTheSameReadings(t *testing.T) {
	st := stored(t)
	for _, width := range []string{"7s", "10s", "25s", "30s", "1m", "90s", "1h", ""} {
		got := answer(t, ask(t, "stony-beck/#", width, "count,last"), from(st, true)).series[0]
		assert.Equal(t, []float64{360, 359}, got.Whole, width)
	}
}

func TestRefusalsSayWhatToChange(t *testing.T) {
	st := stored(t)
	for i := range 6 {
		put(t, st, series.Definition{
			Path:     series.Path(fmt.Sprint("long-mere/buoy/q-", i)),
			Kind:     series.Gauge,
			FreshFor: time.Minute,
		}, func(i int) float64 { return 1 })
	}
	wide := ask(t, "stony-beck/#", "10s", "")
	wide.Range.From = begin.Add(-500 * 24 * time.Hour)
	reversed := ask(t, "#", "1m", "")
	reversed.Range.From, reversed.Range.To = reversed.Range.To, reversed.Range.From
	narrow := ask(t, "stony-beck/#", "5m", "")
	narrow.Grid.Stride, narrow.Grid.Width = narrow.Grid.Width, window.Step{Months: 1000}
	labelled := ask(t, "#", "1m", "")
	labelled.Select[0] = labelled.Select[0].With("depth=3m")
	across := ask(t, "#", "1m", "mean")
	across.Across = &Across{Function: "sum"}
	across.Select = ask(t, "stony-beck/#", "", "").Select
	times := ask(t, "stony-beck/#", "1m", "min_at")
	times.Across = &Across{Function: "sum"}
	for _, test := range []struct {
		query       Windows
		code, wrong string
	}{
		{wide, "too_large", "ask for a shorter range, a wider width than 10s, or fewer series"},
		{ask(t, "#", "1h", ""), "too_large", "# names 7 series; at most 5"},
		{reversed, "range", "range is reversed"},
		{ask(t, "stony-beck/raceway-1/oxigen", "1m", ""), "unknown_series", "near it are stony-beck/raceway-1/oxygen"},
		{ask(t, "stony-bek/raceway-1/oxygen", "1m", ""), "unknown_series", "near it are stony-beck/raceway-1/oxygen, "},
		{labelled, "unknown_series", `no series matches "# with depth=3m"`},
		{ask(t, "stony-beck/#", "7s", ""), "range", "use a multiple of it, such as 10s"},
		{ask(t, "stony-beck/#", "1m", "p95"), "range", "need the readings"},
		{
			ask(t, "stony-beck/#", "1m", "increase"), "stats",
			"is for series of kind counter; stony-beck/raceway-1/oxygen is a gauge",
		},
		{times, "across", "stat min_at is a time"},
	} {
		err := test.query.Run(t.Context(), from(st, false), &collected{})
		var refused *RefusedError
		require.ErrorAs(t, err, &refused)
		assert.Equal(t, test.code, refused.Code)
		assert.Contains(t, refused.Message, test.wrong)
	}
	err := ask(t, "a/b", "1m", "").Run(t.Context(), from(empty(t), true), &collected{})
	assert.ErrorContains(t, err, "there are no series here yet")
}

func TestAQueryThatIsCancelledOrTooSlowStops(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, ask(t, "#", "1m", "").Run(ctx, from(stored(t), true), &collected{}), context.Canceled)
	slow := from(stored(t), true)
	slow.Limits.MaxTime = 1
	assert.ErrorContains(t, ask(t, "#", "1m", "").Run(t.Context(), slow, &collected{}), "longer than 1ns")
	full := errors.New("the other end is gone")
	assert.ErrorIs(t, ask(t, "#", "1m", "").Run(t.Context(), from(stored(t), true), broken{full}), full)
}

// broken is a sink whose other end has gone.
type broken struct{ err error }

func (b broken) Head(Head) error         { return nil }
func (b broken) Series(SeriesRows) error { return b.err }

func TestNothingHoldsInTheFuture(t *testing.T) {
	st := empty(t)
	def := series.Definition{Path: "alder-weir/pump-1/running", Kind: series.State, FreshFor: 30 * 24 * time.Hour}
	ids, err := st.Define(t.Context(), []series.Definition{def})
	require.NoError(t, err)
	raw := column.New(1, 0)
	raw.Add(begin.UnixNano(), 1)
	require.NoError(t, st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: ids[0], Rows: raw}}}))
	q := ask(t, "#", "1d", "duration:1,coverage")
	q.Now = begin.Add(3 * time.Hour)
	got := answer(t, q, from(st, true)).series[0]
	assert.Equal(t, []float64{3 * 3600, 3.0 / 24}, []float64{got.Rows.Stats[0][0], got.Rows.Stats[1][0]})
}

func TestShiftedWindowsStandSideBySide(t *testing.T) {
	q := ask(t, "#", "10m", "first")
	q.Shift = window.Step{Fixed: 20 * time.Minute}
	got := answer(t, q, from(stored(t), true))
	require.Len(t, got.series, 2)
	assert.Equal(t, []float64{0, 60, 120, 180, 240, 300}, got.series[0].Rows.Stats[0])
	assert.Equal(t, "20m", got.series[1].Shift.String())
	assert.Equal(t, []float64{0, 60, 120, 180}, got.series[1].Rows.Stats[0][2:])
	assert.True(t, math.IsNaN(got.series[1].Rows.Stats[0][0]))
}

func TestManySeriesBecomeOne(t *testing.T) {
	st := empty(t)
	def := func(path series.Path, kind series.Kind, unit string, labels series.Labels) series.Definition {
		return series.Definition{Path: path, Kind: kind, Unit: unit, Labels: labels, FreshFor: time.Minute}
	}
	constant := func(v float64) func(int) float64 { return func(int) float64 { return v } }
	put(t, st, def("long-mere/buoy-0/temp", series.Gauge, "Cel", "depth=1m"), constant(10))
	put(t, st, def("long-mere/buoy-1/temp", series.Gauge, "Cel", "depth=3m"), constant(20))
	put(t, st, def("stony-beck/inlet/temp", series.Gauge, "K", "depth=3m"), constant(273.15))
	put(t, st, def("long-mere/mast/wind", series.Bearing, "deg", ""), constant(350))
	put(t, st, def("long-mere/hill/wind", series.Bearing, "deg", ""), constant(20))
	run := func(selector, function, by, unit string) (map[string]float64, error) {
		q := ask(t, selector, "1h", "mean")
		q.Units.All = unit
		var err error
		q.Across, err = ParseAcross(function, "")
		require.NoError(t, err)
		q.By, err = ParseGrouping(by)
		require.NoError(t, err)
		var got collected
		err = q.Run(t.Context(), from(st, true), &got)
		out := map[string]float64{}
		for _, s := range got.series {
			out[s.Name] = math.Round(s.Rows.Stats[0][0]*1e6) / 1e6
			assert.Equal(t, []string{"mean", Contributing}, s.Stats)
			assert.EqualValues(t, s.Members, s.Rows.Stats[1][0])
		}
		return out, err
	}
	all := func(want map[string]float64, selector, function, by, unit string) {
		t.Helper()
		got, err := run(selector, function, by, unit)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	all(map[string]float64{"all": 15}, "long-mere/+/temp", "mean", "", "")
	all(map[string]float64{"all": 30}, "long-mere/+/temp", "sum", "", "")
	all(map[string]float64{"all": 20}, "long-mere/+/temp", "max", "", "")
	all(map[string]float64{"long-mere": 10, "stony-beck": 0}, "+/+/temp", "min", "level:1", "Cel")
	all(map[string]float64{"depth=1m": 283.15, "depth=3m": 283.15}, "+/+/temp", "mean", "label:depth", "K")
	all(map[string]float64{"all": 5}, "+/+/wind", "mean", "", "") // through north
	_, err := run("+/+/temp", "mean", "", "")
	assert.ErrorContains(t, err, "long-mere/buoy-0/temp is in Cel and stony-beck/inlet/temp in K")
	_, err = run("+/+/wind", "sum", "", "")
	assert.ErrorContains(t, err, "of bearings there is no sum")
}

func TestCalculationsByHand(t *testing.T) {
	st := stored(t)
	put(t, st, series.Definition{
		Path:     "stony-beck/raceway-2/oxygen",
		Kind:     series.Gauge,
		FreshFor: time.Minute,
	}, func(i int) float64 { return 1 })
	inputs := []Input{}
	for _, text := range []string{"a=stony-beck/raceway-1/oxygen@max", "b=stony-beck/raceway-2/oxygen"} {
		in, err := ParseInput(text)
		require.NoError(t, err)
		inputs = append(inputs, in)
	}
	// In half an hour a counts up to 179, then to 359; b is 1.
	for formula, want := range map[string][]float64{
		"a - b": {178, 358}, "(a+b)*2": {360, 720}, "a > 200": {0, 1}, "a > 200 ? a : b": {1, 359}, "max(a, 300)": {300, 359},
		"sqrt(a+b-180) + abs(-b)": {1, math.Sqrt(180) + 1}, "a/(b-1)": {math.NaN(), math.NaN()}, "a % 100 == 79": {1, 0}, "not (a > 200) and b == 1": {1, 0}, "pow(b + 1, 3) / 3": {8.0 / 3, 8.0 / 3},
	} {
		calculations, err := ParseCalculations([]string{"x=" + formula}, inputs)
		require.NoError(t, err, formula)
		q := ask(t, "#", "30m", "")
		q.Select, q.Stats, q.Inputs, q.Calculations = nil, nil, inputs, calculations
		got := answer(t, q, from(st, true)).series[0]
		assert.Equal(t, "x", got.Name)
		for i := range want {
			assert.True(t, want[i] == got.Rows.Stats[0][i] || math.IsNaN(want[i]) && math.IsNaN(got.Rows.Stats[0][i]),
				"%s: %v", formula, got.Rows.Stats[0])
		}
	}
	for text, wrong := range map[string]string{
		"x": "write a name", "2x=a": "write a name", "in=a": "no word of a formula", "x=a+": "unexpected token", "x=c*2": "unknown name c at character 1", "x=len(a)": "unknown function len",
		"x=a+'b'": "something that is no number at character 3", "x=" + fmt.Sprintf("%0600d", 1): "at most 500", "a=b": "an input or a calculation before it has this name",
		"x=let v=1..900; sum(v,{#+a})": "no number", "x=a in 1..3": "unknown operator in", "x=max(a)": "max with 1 numbers", "x=$env": "unknown name", "x=a?.b": "no number",
		"x=" + strings.Repeat("-", 300) + "a": "more than 200 parts",
	} {
		_, err := ParseCalculations([]string{text}, inputs)
		assert.ErrorContains(t, err, wrong, text)
	}
	for text, wrong := range map[string]string{
		"a":            "write a name",
		"a=b/c@median": "not known",
		"a=b/c@min_at": "not one stat",
		"a=b/c@":       "not one stat",
	} {
		_, err := ParseInput(text)
		assert.ErrorContains(t, err, wrong, text)
	}
}

func TestSummariesDoNotTellOfEveryReading(t *testing.T) {
	st := empty(t)
	def := series.Definition{Path: "a/b", Kind: series.Gauge, FreshFor: time.Minute}
	ids, err := st.Define(t.Context(), []series.Definition{def})
	require.NoError(t, err)
	raw, rows := column.New(1, 0), rollup.NewBlock(series.Gauge, 0)
	for i, v := range []float64{3, 1, 2, 4, 3, 3} { // the third is neither first nor last, lowest nor highest
		raw.Add(begin.UnixNano()+int64(i)*1e9, v)
	}
	rollup.Fold(raw, begin.UnixNano(), begin.UnixNano()+1e10, &def).AddTo(&rows, begin.UnixNano(), series.Gauge)
	require.NoError(t, st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{
		Series: ids[0],
		Tier:   series.TenSecond,
		Rows:   rows,
	}}}))
	selector, err := series.ParseSelector("a/b")
	require.NoError(t, err)
	got, _, err := Moment{Select: selector, At: begin.Add(2500 * time.Millisecond), How: Before}.Run(t.Context(),
		from(st, false))
	require.NoError(t, err)
	assert.EqualValues(t, 1, got[0].Value)
	assert.False(t, got[0].Sure)
	none, unknown, err := Moment{
		Select: selector,
		At:     begin.Add(2500 * time.Millisecond),
		How:    Exactly,
	}.Run(t.Context(),
		from(st, false))
	require.NoError(t, err)
	assert.Empty(t, none)
	assert.Equal(t, []string{"a/b"}, unknown)
	got, _, err = Moment{Select: selector, At: begin.Add(time.Second), How: Exactly}.Run(t.Context(), from(st, false))
	require.NoError(t, err)
	assert.True(t, got[0].Sure)
}

func TestTheValueAtAMoment(t *testing.T) {
	st := stored(t)
	for _, test := range []struct {
		readings bool
		how      How
		at       time.Duration
		value    any
		sure     bool
	}{
		{true, Before, 25 * time.Second, 2.0, true},
		{true, Before, 30 * time.Second, 3.0, true},
		{true, Exactly, 30 * time.Second, 3.0, true},
		{true, Exactly, 31 * time.Second, nil, true},
		{true, Nearest, 26 * time.Second, 3.0, true},
		{true, Nearest, 25 * time.Second, 2.0, true}, // of two equally far the earlier
		{true, Nearest, -time.Hour, 0.0, true},
		{true, Before, -time.Second, nil, true},
		{true, Before, 48 * time.Hour, 359.0, true},
		{false, Before, 25 * time.Second, 2.0, true}, // the one reading of its window
		{false, Before, 30 * time.Second, 3.0, true},
		{false, Before, 48 * time.Hour, 347.0, true},
		{false, Nearest, -time.Minute, 0.0, true},
	} {
		selector, err := series.ParseSelector("#")
		require.NoError(t, err)
		got, _, err := Moment{Select: selector, At: begin.Add(test.at), How: test.how}.Run(t.Context(),
			from(st, test.readings))
		if test.value == nil {
			assert.ErrorContains(t, err, "no series of # has a reading "+string(test.how), test)
			continue
		}
		require.NoError(t, err, "%+v", test)
		assert.Equal(t, test.value, got[0].Value, "%+v", test)
		assert.Equal(t, test.sure, got[0].Sure, "%+v", test)
	}
}
