package query

import (
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store"
)

// raceways has three of them: one at 2 mg/l and 10 Cel, one at 4 and 20, and one whose
// probe is dead.
func raceways(t *testing.T) *store.Store {
	st := empty(t)
	for i, volume := range []string{"1", "3"} {
		at := fmt.Sprintf("stony-beck/raceway-%d/", i+1)
		put(t, st, series.Definition{
			Path:     series.Path(at + "oxygen"),
			Kind:     series.Gauge,
			Unit:     "mg/l",
			FreshFor: time.Minute,
			Labels:   series.Labels("volume=" + volume),
		}, func(int) float64 { return float64(2 * (i + 1)) })
		put(t, st, series.Definition{
			Path:     series.Path(at + "temp"),
			Kind:     series.Gauge,
			Unit:     "Cel",
			FreshFor: time.Minute,
		}, func(int) float64 { return float64(10 * (i + 1)) })
	}
	_, err := st.Define(t.Context(), []series.Definition{{
		Path:     "stony-beck/raceway-3/oxygen",
		Kind:     series.Gauge,
		Unit:     "mg/l",
		FreshFor: time.Minute,
		Labels:   "volume=1",
	}})
	require.NoError(t, err)
	return st
}

func TestSeriesAreWeighedAndADeadOneIsTold(t *testing.T) {
	st := raceways(t)
	for _, test := range []struct {
		function, weight, stat string
		want                   float64
	}{
		{"mean", "", "mean", 3}, {"mean", "label:volume", "mean", 3.5}, {"sum", "label:volume", "mean", 14}, {"sd", "", "mean", math.Sqrt2}, {"p50", "", "max", 3}, {"p100", "", "mean", 4}, {"count", "", "mean", 2},
		{"mean", "", "count", 240}, {"min", "", "coverage", 0}, {"sum", "", "count", 720}, // the dead one has none
	} {
		q := ask(t, "stony-beck/+/oxygen", "", test.stat)
		var err error
		q.Across, err = ParseAcross(test.function, test.weight)
		require.NoError(t, err)
		got := answer(t, q, from(st, true)).series[0]
		assert.InDelta(t, test.want, got.Rows.Stats[0][0], 1e-12, "%+v", test)
		assert.InDelta(t, got.Whole[0], got.Rows.Stats[0][0], 1e-12, "one window is the whole")
		assert.Equal(t, []float64{2, 2}, []float64{got.Rows.Stats[1][0], got.Whole[1]}, "contributing")
		assert.Equal(t, []string{"stony-beck/raceway-3/oxygen"}, got.Silent)
	}
	for function, wrong := range map[string]string{"median": "use mean, sum", "p101": "use mean, sum"} {
		_, err := ParseAcross(function, "")
		assert.ErrorContains(t, err, wrong)
	}
	for _, pair := range [][2]string{{"mean", "volume"}, {"max", "label:volume"}, {"", "label:volume"}} {
		_, err := ParseAcross(pair[0], pair[1])
		assert.ErrorContains(t, err, "weight")
	}
	q := ask(t, "stony-beck/+/temp", "", "mean")
	q.Across = &Across{Function: "mean", Weight: "volume"}
	assert.ErrorContains(t, q.Run(t.Context(), from(st, true), &collected{}),
		"has no label volume, which says how much it counts")
}

func TestOneCalculationForManyPlaces(t *testing.T) {
	st := raceways(t)
	var inputs []Input
	for _, text := range []string{
		"o=stony-beck/+/oxygen", "t=stony-beck/+/temp", "first=stony-beck/raceway-1/temp@max",
	} {
		in, err := ParseInput(text)
		require.NoError(t, err)
		inputs = append(inputs, in)
	}
	calculations, err := ParseCalculations([]string{"ratio=o/t", "double=2*ratio", "warmer=t-first"}, inputs)
	require.NoError(t, err)
	q := ask(t, "#", "", "")
	q.Stats, q.Inputs, q.Calculations, q.By, q.Units = nil, inputs, calculations, Grouping{Level: 2}, Units{Of: map[string]string{"warmer": "Cel"}}
	src := from(st, true)
	src.Limits.MaxSeries = 10
	got := answer(t, q, src)
	want := map[string]float64{
		"stony-beck/raceway-1 ratio": 0.2, "stony-beck/raceway-1 double": 0.4, "stony-beck/raceway-1 warmer": 0,
		"stony-beck/raceway-2 ratio": 0.2, "stony-beck/raceway-2 double": 0.4, "stony-beck/raceway-2 warmer": 10,
	}
	assert.Len(t, got.series, len(want))
	for _, s := range got.series {
		assert.InDelta(t, want[s.Name], s.Whole[0], 1e-12, s.Name)
		assert.Equal(t, map[bool]string{true: "Cel"}[s.Name[21:] == "warmer"], s.Unit, s.Name)
	}
	assert.Equal(t, []string{"stony-beck/raceway-3: no series for t"}, got.head.LeftOut)
	q.By = Grouping{}
	assert.ErrorContains(t, q.Run(t.Context(), src, &collected{}), "calculate for each place with by")
	q.By = Grouping{Level: 1}
	assert.ErrorContains(t, q.Run(t.Context(), src, &collected{}), "has two series in stony-beck")
}

func TestRanksAndStatsOfStats(t *testing.T) {
	st := raceways(t)
	put(t, st, series.Definition{
		Path:     "stony-beck/raceway-4/oxygen",
		Kind:     series.Gauge,
		Unit:     "mg/l",
		FreshFor: time.Minute,
	}, func(i int) float64 { return float64(i) })
	for _, test := range []struct {
		highest, lowest int
		by              string
		want            []string
	}{
		{2, 0, "", []string{"raceway-4", "raceway-2"}}, {0, 2, "", []string{"raceway-1", "raceway-2"}},
		{0, 1, "min", []string{"raceway-4"}},
		{9, 0, "mean", []string{"raceway-4", "raceway-2", "raceway-1"}},
	} {
		q := ask(t, "stony-beck/+/oxygen", "10m", "mean,min")
		var err error
		q.Rank, err = ParseRank(test.highest, test.lowest, test.by)
		require.NoError(t, err)
		q.Then, err = ParseAgain("mean,max,count,sd,p50")
		require.NoError(t, err)
		got := answer(t, q, from(st, true))
		var names []string
		for i, s := range got.series {
			names = append(names, s.Name[11:20])
			assert.Equal(t, i+1, s.Rank)
			if s.Name[11:20] == "raceway-4" { // its minima are 0, 60 … 300
				assert.InDeltaSlice(t, []float64{150, 300, 6, math.Sqrt(12600), 150}, []float64{
					s.Again[0].Values[1], s.Again[1].Values[1], s.Again[2].Values[1], s.Again[3].Values[1],
					s.Again[4].Values[1],
				}, 1e-9)
			}
		}
		assert.Equal(t, test.want, names)
		assert.Equal(t, []string{"stony-beck/raceway-3/oxygen: no number to rank it by"}, got.head.LeftOut)
	}
	for _, wrong := range [][2]int{{1, 1}, {-1, 0}, {0, 201}} {
		_, err := ParseRank(wrong[0], wrong[1], "")
		assert.Error(t, err)
	}
	_, err := ParseAgain("slope")
	assert.ErrorContains(t, err, "of the windows' stats there are mean")
}

func TestEachStatHasItsUnit(t *testing.T) {
	st := empty(t)
	put(t, st, series.Definition{
		Path:     "alder-weir/pump-1/energy",
		Kind:     series.Counter,
		Unit:     "kWh",
		FreshFor: time.Minute,
	}, func(i int) float64 { return float64(i) })
	put(t, st, series.Definition{
		Path:     "alder-weir/hatchery/inflow",
		Kind:     series.Gauge,
		Unit:     "l/s",
		FreshFor: time.Minute,
	}, func(int) float64 { return 100 })
	put(t, st, series.Definition{
		Path:     "alder-weir/hatchery/temp",
		Kind:     series.Gauge,
		Unit:     "Cel",
		FreshFor: time.Minute,
	}, func(int) float64 { return 10 })
	put(t, st, series.Definition{
		Path:     "alder-weir/mast/wind",
		Kind:     series.Bearing,
		Unit:     "deg",
		FreshFor: time.Minute,
	}, func(int) float64 { return 180 })
	for _, test := range []struct {
		path, stat, units string // units with spaces between
		unit              string
		want              float64
	}{
		{"pump-1/energy", "rate", "", "kWh/s", 0.1}, {"pump-1/energy", "rate/h", "", "kWh/h", 360}, {"pump-1/energy", "rate/h", "kW", "kW", 360}, {"pump-1/energy", "rate", "kW", "kW", 360},
		{"pump-1/energy", "rate/d", "rate/d=kW", "kW", 360}, {"pump-1/energy", "increase", "Wh", "Wh", 359_000}, {"pump-1/energy", "rate/min", "J", "J/min", 6 * 3.6e6},
		{"hatchery/inflow", "integral", "", "l", 360_000}, {"hatchery/inflow", "integral", "m3/h", "m3", 360}, {"hatchery/inflow", "integral", "integral=m3", "m3", 360}, {"hatchery/inflow", "mean", "m3/h", "m3/h", 360},
		{"hatchery/temp", "mean", "K", "K", 283.15}, {"hatchery/temp", "sd", "K", "K", 0}, {"hatchery/temp", "integral", "", "Cel s", 36_000}, {"hatchery/temp", "above:283", "K", "s", 3600}, {"hatchery/temp", "above:284", "K", "s", 0},
		{"mast/wind", "mean", "rad", "rad", math.Pi}, {"hatchery/temp", "coverage", "K", "/", 1},
	} {
		q := ask(t, "alder-weir/"+test.path, "", test.stat)
		if test.units != "" {
			var err error
			q.Units, err = ParseUnits([]string{test.units})
			require.NoError(t, err)
		}
		got := answer(t, q, from(st, true)).series[0]
		assert.Equal(t, test.unit, got.StatUnits[0], "%+v", test)
		assert.InDelta(t, test.want, got.Whole[0], 1e-6*(1+test.want), "%+v", test)
	}
	for _, test := range [][4]string{
		{"pump-1/energy", "increase", "kW", "kWh cannot be converted to kW"}, {"pump-1/energy", "rate,last", "kW", "cannot be converted to kW"}, {"pump-1/energy", "count", "banana", "cannot be converted to banana"},
		{
			"pump-1/energy", "rate,count", "count=K", "stat count is not in the unit of the series",
		}, {"hatchery/temp", "integral", "K", "do not begin at the same zero"}, {
			"hatchery/temp", "mean", "max=K", "unit is given for max, which is not asked for",
		},
	} {
		q := ask(t, "alder-weir/"+test[0], "", test[1])
		var err error
		q.Units, err = ParseUnits([]string{test[2]})
		require.NoError(t, err)
		assert.ErrorContains(t, q.Run(t.Context(), from(st, true), &collected{}), test[3], "%v", test)
	}
	for _, wrong := range [][]string{{"K", "Cel"}, {"=K"}, {"mean=K", "mean=Cel"}} {
		_, err := ParseUnits(wrong)
		assert.Error(t, err)
	}
}

func TestWhatHasNoMeaningIsRefused(t *testing.T) {
	st := empty(t)
	put(t, st, series.Definition{
		Path:     "a/mast/wind",
		Kind:     series.Bearing,
		Unit:     "deg",
		FreshFor: time.Minute,
	}, func(int) float64 { return 180 })
	put(t, st, series.Definition{
		Path:     "a/pump/running",
		Kind:     series.State,
		FreshFor: time.Minute,
	}, func(int) float64 { return 1 })
	for stat, wrong := range map[string]string{
		"min":     "stat min is for series of kind gauge, counter, state; a/mast/wind is a bearing",
		"p50":     "stat p50 is for",
		"above:3": "stat above:3 is for series of kind gauge",
	} {
		assert.ErrorContains(t, ask(t, "a/mast/wind", "1h", stat).Run(t.Context(), from(st, true), &collected{}), wrong)
	}
	q := ask(t, "#", "1h", "last")
	q.Gaps = window.Gaps{Mode: window.Join}
	assert.ErrorContains(t, q.Run(t.Context(), from(st, true), &collected{}),
		"between two states there is none to join them")
	usual := ask(t, "a/mast/wind", "1h", "")
	got := answer(t, usual, from(st, true)).series[0]
	assert.Equal(t, []string{"mean", "count", "coverage"}, got.Stats, "what is usual is what there is")
	quiet := ask(t, "a/pump/running", "1h", "changes")
	quiet.Range.From, quiet.Range.To = begin.AddDate(0, 0, 1), begin.AddDate(0, 0, 2)
	assert.True(t, math.IsNaN(answer(t, quiet, from(st, true)).series[0].Rows.Stats[0][0]),
		"nothing is known of a window without data")
}

func TestHowOftenNeedsReadings(t *testing.T) {
	st := stored(t)
	got := answer(t, ask(t, "#", "1h", "above_times:100,above:100,above_first:100"), from(st, true)).series[0]
	assert.Equal(t, []float64{1, 2590}, []float64{got.Rows.Stats[0][0], got.Rows.Stats[1][0]}) // from the 101st on
	assert.Equal(t, begin.Add(1010*time.Second).UnixNano(), got.Times[2][0])
	assert.ErrorContains(t, ask(t, "#", "1h", "above_times:100").Run(t.Context(), from(st, false), &collected{}),
		"how often and when a condition held, need the readings")
	got = answer(t, ask(t, "#", "1h", "above:100"), from(st, false)).series[0]
	assert.Equal(t, series.Minute, got.Tier)
	assert.True(t, math.IsNaN(got.Rows.Stats[0][0]))
	assert.Less(t, got.Least[0][0], got.Most[0][0])
}

func TestAMomentIsAnsweredInTimeOrNotAtAll(t *testing.T) {
	selector, err := series.ParseSelector("#")
	require.NoError(t, err)
	src := from(stored(t), true)
	src.Limits.MaxTime = 1
	_, _, err = Moment{Select: selector, At: begin, How: Before}.Run(t.Context(), src)
	assert.ErrorContains(t, err, "the answer took longer than 1ns")
}
