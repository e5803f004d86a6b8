package window

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

const minute = int64(time.Minute)

// reduce takes readings at the given minutes into two-minute windows of 0 to 8 min.
func reduce(t *testing.T, kind series.Kind, gaps string, stats string, pairs ...float64) Rows {
	t.Helper()
	def := &series.Definition{Kind: kind, FreshFor: time.Minute}
	raw, block := column.New(1, 0), rollup.NewBlock(kind, 0)
	for i := 0; i < len(pairs); i += 2 {
		raw.Add(int64(pairs[i]*float64(minute)), pairs[i+1])
	}
	for at := int64(0); at < 8*minute; at += minute {
		if s := rollup.Fold(raw, at, at+minute, def); s.Count > 0 {
			s.AddTo(&block, at, kind)
		}
	}
	windows, err := Grid{Width: Step{Fixed: 2 * time.Minute}}.Cut(Range{From: time.Unix(0, 0), To: time.Unix(0,
		8*minute)},
		100)
	require.NoError(t, err)
	p, err := NewPlan(windows, series.Tiers{}.All(), false, false)
	require.NoError(t, err)
	assert.Equal(t, series.Minute, p.Tier)
	g, err := ParseGaps(gaps)
	require.NoError(t, err)
	asked, err := ParseStats(stats)
	require.NoError(t, err)
	r := NewReducer(p, def, asked, Options{Gaps: g})
	require.NoError(t, r.Rows(block, minute))
	return r.Finish()
}

func TestGapsAreTreatedAsAsked(t *testing.T) {
	data := []float64{2, 10, 3, 20, 7, 40} // windows at 0 and 4 minutes have no reading
	nan := math.NaN()
	same := func(want, got []float64) {
		t.Helper()
		require.Len(t, got, len(want))
		for i := range want {
			assert.True(t, want[i] == got[i] || math.IsNaN(want[i]) && math.IsNaN(got[i]), "%v and %v", want, got)
		}
	}
	leave := reduce(t, series.Gauge, "leave", "mean,last,count", data...)
	same([]float64{nan, 15, nan, 40}, leave.Stats[0])
	same([]float64{0, 2, 0, 1}, leave.Stats[2])
	assert.Equal(t, []bool{true, false, true, false}, leave.Empty)
	assert.Equal(t, []bool{false, false, false, false}, leave.Filled)

	carry := reduce(t, series.Gauge, "carry", "mean,last,count", data...)
	same([]float64{nan, 20, 20, 40},
		[]float64{carry.Stats[0][0], carry.Stats[1][1], carry.Stats[0][2], carry.Stats[0][3]})
	assert.Equal(t, []bool{false, false, true, false}, carry.Filled, "nothing is known before the first")
	same([]float64{nan, 15, nan, 40}, reduce(t, series.Gauge, "carry:30s", "mean", data...).Stats[0])
	same([]float64{nan, 15, 20, 40}, reduce(t, series.Gauge, "carry:1m", "mean", data...).Stats[0])

	join := reduce(t, series.Gauge, "join", "mean,sd", data...)
	same([]float64{nan, 15, 27.5, 40}, join.Stats[0])
	assert.True(t, math.IsNaN(join.Stats[1][2]), "a filled row has no spread")

	number := reduce(t, series.Gauge, "-1", "mean,coverage", data...)
	same([]float64{-1, 15, -1, 40}, number.Stats[0])
	same([]float64{0, 1, 0, 0.5}, number.Stats[1])
	assert.Equal(t, []bool{true, false, true, false}, number.Filled)
	assert.Equal(t, []bool{false, false, false, false}, number.Empty)

	same([]float64{0, 0, 0, 0}, reduce(t, series.Gauge, "0", "mean").Stats[0])
	same([]float64{5, 5, 5, 5}, reduce(t, series.Gauge, "carry", "mean", 1, 5).Stats[0])
	// From 350 to 10 degrees it is 20, through north.
	same([]float64{350, 0, 10, nan}, reduce(t, series.Bearing, "join", "first", 1, 350, 5, 10).Stats[0])
}

func TestTheWholeRangeIsAWindowToo(t *testing.T) {
	rows := reduce(t, series.Gauge, "0", "count,mean,max,max_at,sd", 2, 10, 3, 20, 7, 60)
	assert.Equal(t, []float64{3, 30, 60}, rows.Whole[:3], "filled rows do not count")
	assert.Equal(t, 7*minute, rows.WholeTimes[3])
	assert.InDelta(t, math.Sqrt(700), rows.Whole[4], 1e-9) // (400+100+900)/2
	assert.InDelta(t, 3.0/8, rows.Coverage, 1e-12)
}

func TestWhatIsAskedForByDefaultStandsInTheFirstPart(t *testing.T) {
	stats := Usual(nil)
	for col := range rollup.ColStates + 1 {
		assert.Equal(t, col < rollup.Parts[1], Need(stats, series.Gauge).Has(col), col)
	}
}

func TestWhatCannotBeAskedForIsSaidByItsName(t *testing.T) {
	now := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	of := func(_ any, err error) string { require.Error(t, err); return err.Error() }
	for says, got := range map[string]string{
		`range "last day": after last comes a duration, such as last 24h`: of(ParseRange("last day", now)),
		`"99999999999h" is too long`:                                      of(ParseStep("99999999999h")),
		`"99999999999999999999h" is too long`:                             of(ParseStep("99999999999999999999h")),
		`"3000000h" is too long`:                                          of(ParseStep("3000000h")),
		`stat 2 of "mean," is empty`:                                      of(ParseStats("mean,")),
		`there is no percentile above 100`:                                of(ParseStats("p101")),
		`the span ends before it begins`:                                  of(ParseDates("2026-12-31..2026-12-27")),
	} {
		assert.Contains(t, got, says)
	}
	stats, err := ParseStats("above:1e6, rate/s ,p95.0")
	require.NoError(t, err)
	assert.Equal(t, []string{"above:1e6", "rate/s", "p95.0"},
		[]string{stats[0].String(), stats[1].String(), stats[2].String()})
	_, err = ParseStats("above:1e6,above:1000000")
	assert.ErrorContains(t, err, "asked for twice")
}

func TestStatsWithoutAMeaningAreRefusedOrEmpty(t *testing.T) {
	for text, wrong := range map[string]string{
		"average": `stat "average" is not known (did you mean "mean"?); use some of count, mean`, "mena": `stat "mena" is not known (did you mean "mean"?); use some of`, "durations:1": `did you mean "duration"?`, "mean,mean": "asked for twice", "p101": "no percentile above 100",
		"duration": "needs to be told of which state, as in duration:1", "share:on": "a state is a number", "mean:3": "takes no value", "p1e1": "not known",
		"mean/h": "mean is not per time", "rate/y": "write rate, rate/min", "above": "needs a number to compare with", "between:9..6": "the lower first", "above:0x1": "a number",
	} {
		_, err := ParseStats(text)
		assert.ErrorContains(t, err, wrong, text)
	}
	stats, err := ParseStats("p99.9, duration:2,max_at,rate/h,between_longest:6..9.5")
	require.NoError(t, err)
	for i, text := range []string{"p99.9", "duration:2", "max_at", "rate/h", "between_longest:6..9.5"} {
		assert.Equal(t, text, stats[i].String())
	}
	rows := reduce(t, series.Bearing, "leave", "min,sd,mean,steadiness", 0, 10, 1, 20)
	assert.True(t, math.IsNaN(rows.Stats[0][0]) && math.IsNaN(rows.Stats[1][0]), "a circle has no lowest angle")
	assert.InDelta(t, 15, rows.Stats[2][0], 1e-9)
	assert.InDelta(t, math.Cos(5*math.Pi/180), rows.Stats[3][0], 1e-9)
	rows = reduce(t, series.Gauge, "leave", "increase,changes", 0, 10, 1, 20)
	assert.True(t, math.IsNaN(rows.Stats[0][0]) && math.IsNaN(rows.Stats[1][0]))
}

// Monk's values, by definition 7 of Hyndman and Fan: 1 + (n-1)p is the place.
func TestPercentilesByHand(t *testing.T) {
	v := []float64{15, 20, 35, 40, 50}
	assert.InDelta(t, 29, Quantile(v, 40), 1e-12) // place 2.6: 20 + 0.6·15
	assert.InDelta(t, 35, Quantile(v, 50), 1e-12)
	assert.InDelta(t, 48, Quantile(v, 95), 1e-12) // place 4.8: 40 + 0.8·10
	assert.EqualValues(t, 15, Quantile(v, 0))
	assert.EqualValues(t, 50, Quantile(v, 100))
	assert.True(t, math.IsNaN(Quantile(nil, 50)))
}

func TestUnitsChangeStatsEachInItsWay(t *testing.T) {
	// From K to Cel: minus 273.15; spreads stay. From km to m: a thousand times.
	for text, want := range map[string]float64{
		"mean":     26.85,
		"max":      26.85,
		"sd":       300,
		"slope":    300,
		"sum":      300 - 2*273.15,
		"count":    300,
		"coverage": 300,
	} {
		s, err := parseStat(text)
		require.NoError(t, err)
		assert.InDelta(t, want, s.Convert(300, 1, -273.15, 2), 1e-9, text)
	}
}

func TestPlansPickTheWidestExactTier(t *testing.T) {
	cut := func(width time.Duration) []Window {
		windows, err := Grid{Width: Step{Fixed: width}}.Cut(Range{From: time.Unix(1000, 0), To: time.Unix(5000, 0)},
			10_000)
		require.NoError(t, err)
		return windows
	}
	for width, tier := range map[time.Duration]series.Tier{
		time.Minute: series.Minute, time.Hour: series.Minute, 90 * time.Second: series.TenSecond, 7 * time.Second: series.Readings,
	} {
		p, err := NewPlan(cut(width), series.Tiers{}.All(), true, false)
		require.NoError(t, err)
		assert.Equal(t, tier, p.Tier, width)
	}
	_, err := NewPlan(cut(7*time.Second), series.Tiers{}.All(), false, false)
	assert.ErrorContains(t, err,
		"only summaries of 10s are kept here; use widths and times that are multiples of it, such as 1970-01-01T00:16:30Z")
	_, err = NewPlan(cut(time.Minute), series.Tiers{}.All(), false, true)
	assert.ErrorContains(t, err, "need the readings")
	p, err := NewPlan(cut(time.Minute), series.Tiers{}.All(), true, true)
	require.NoError(t, err)
	assert.Equal(t, series.Readings, p.Tier)
	assert.True(t, p.Cut(960e9, 1080e9))
	assert.False(t, p.Cut(960e9, 1020e9), "an edge at either end lies not inside")
}
