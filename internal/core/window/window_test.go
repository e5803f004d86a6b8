package window

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

const minute = int64(time.Minute)

var gauge = series.Definition{Kind: series.Gauge, FreshFor: time.Minute}

// minutes is 1-min summaries of one reading each, at the given minutes and values.
func minutes(pairs ...float64) column.Block {
	raw, out := column.New(1, 0), rollup.NewBlock(0)
	for i := 0; i < len(pairs); i += 2 {
		raw.Add(int64(pairs[i])*minute, pairs[i+1])
	}
	for _, at := range raw.Times {
		s, _ := rollup.Fold(raw, at, time.Minute, gauge)
		s.AddTo(&out, at)
	}
	return out
}

func reduce(t *testing.T, block column.Block, kind series.Kind, gaps string, stats ...Stat) Rows {
	t.Helper()
	p, err := MakePlan(0, 8*minute, 2*time.Minute, false)
	require.NoError(t, err)
	g, err := ParseGaps(gaps)
	require.NoError(t, err)
	return Reduce(p, block, series.Definition{Kind: kind, FreshFor: time.Minute}, stats, g)
}

func inMinutes(starts []int64) (out []int64) {
	for _, s := range starts {
		out = append(out, s/minute)
	}
	return out
}

func TestGapsAreTreatedAsAsked(t *testing.T) {
	block := minutes(2, 10, 3, 20, 7, 40) // windows at 0 and 4 minutes are empty
	leave := reduce(t, block, series.Gauge, "leave", Mean, Last, Count)
	assert.Equal(t, []int64{2, 6}, inMinutes(leave.Starts))
	assert.Equal(t, []float64{15, 40}, leave.Stats[0])
	assert.Equal(t, []bool{false, false}, leave.Filled)

	carry := reduce(t, block, series.Gauge, "carry", Mean, Last, Count)
	assert.Equal(t, []int64{2, 4, 6}, inMinutes(carry.Starts), "nothing is known before the first")
	assert.Equal(t, []float64{15, 20, 40}, carry.Stats[0], "the last known value, not the last mean")
	assert.Equal(t, []float64{2, 0, 1}, carry.Stats[2])
	assert.Equal(t, []bool{false, true, false}, carry.Filled)

	join := reduce(t, block, series.Gauge, "join", Mean, SD)
	assert.Equal(t, []float64{15, 27.5, 40}, join.Stats[0])
	assert.True(t, math.IsNaN(join.Stats[1][1]), "a filled row has no spread")

	number := reduce(t, block, series.Gauge, "-1", Mean, Coverage)
	assert.Equal(t, []float64{-1, 15, -1, 40}, number.Stats[0])
	assert.Equal(t, []float64{0, 1, 0, 0.5}, number.Stats[1])
	assert.Equal(t, []bool{true, false, true, false}, number.Filled)

	assert.Equal(t, []float64{0, 0, 0, 0}, reduce(t, minutes(), series.Gauge, "0", Mean).Stats[0], "no data at all")
	assert.Equal(t, []int64{0, 2, 4, 6}, inMinutes(reduce(t, minutes(1, 5), series.Gauge, "carry", Mean).Starts), "carried to the end")
}

func TestTheWholeRangeIsAWindowToo(t *testing.T) {
	rows := reduce(t, minutes(2, 10, 3, 20, 7, 60), series.Gauge, "0", Mean)
	assert.EqualValues(t, 3, rows.Whole.Count, "filled rows do not count")
	assert.EqualValues(t, 30, rows.Whole.Mean)
	assert.Equal(t, 7*minute, rows.Whole.MaxAt)
	assert.Equal(t, 3.0/8, rows.Coverage)
}

func TestAnAngleHasNoLowest(t *testing.T) {
	raw, block := column.New(1, 0), rollup.NewBlock(0)
	for i, v := range []float64{350, 10} {
		raw.Add(int64(i)*minute, v)
	}
	for _, at := range raw.Times {
		s, _ := rollup.Fold(raw, at, time.Minute, series.Definition{Kind: series.Bearing, FreshFor: time.Minute})
		s.AddTo(&block, at)
	}
	rows := reduce(t, block, series.Bearing, "leave", Mean, Min, SD, Count)
	assert.InDelta(t, 0, math.Mod(rows.Stats[0][0]+180, 360)-180, 1e-9)
	assert.True(t, math.IsNaN(rows.Stats[1][0]) && math.IsNaN(rows.Stats[2][0]))
	assert.EqualValues(t, 2, rows.Stats[3][0])
}

func TestPlansAreOnTheGridAndExact(t *testing.T) {
	p, err := MakePlan(7*minute+1, 31*minute, 15*time.Minute, false)
	require.NoError(t, err)
	assert.Equal(t, Plan{From: 0, To: 45 * minute, Width: 15 * time.Minute, Tier: rollup.Minute}, p)
	assert.Equal(t, 3, p.Windows())
	p, err = MakePlan(0, minute, 30*time.Second, false)
	require.NoError(t, err)
	assert.Equal(t, rollup.TenSecond, p.Tier)
	p, err = MakePlan(0, minute, 7*time.Second, true)
	require.NoError(t, err)
	assert.Equal(t, rollup.Readings, p.Tier)
	_, err = MakePlan(0, minute, 45*time.Millisecond, false)
	assert.ErrorContains(t, err, "use a multiple of it, such as 10s")
	_, err = MakePlan(0, minute, 95*time.Second, false)
	assert.ErrorContains(t, err, "such as 90s")
	_, err = MakePlan(minute, minute, time.Minute, false)
	assert.ErrorContains(t, err, "range is empty")
}

func TestSummariesAndReadingsGiveTheSameWindows(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 10))
	for range 200 {
		raw := column.New(1, 0)
		for at := int64(0); at < 60*minute; at += random.Int64N(3 * minute) {
			raw.Add(at, math.Round(1000*random.Float64())/10)
		}
		raw = raw.Normalize()
		summaries := rollup.NewBlock(60)
		for m := range int64(60) {
			if s, ok := rollup.Fold(raw, m*minute, time.Minute, gauge); ok {
				s.AddTo(&summaries, m*minute)
			}
		}
		stats := []Stat{Count, Min, Max, Range, First, Last, Mean, SD, Sum}
		of := func(block column.Block, tier rollup.Tier) Rows {
			return Reduce(Plan{From: 0, To: 60 * minute, Width: 10 * time.Minute, Tier: tier}, block, gauge, stats, Gaps{Mode: Leave})
		}
		a, b := of(raw, rollup.Readings), of(summaries, rollup.Minute)
		require.Equal(t, a.Starts, b.Starts)
		require.Equal(t, a.Stats[:6], b.Stats[:6])
		for s := 6; s < len(stats); s++ {
			for i := range a.Starts {
				if !math.IsNaN(a.Stats[s][i]) || !math.IsNaN(b.Stats[s][i]) {
					require.InDelta(t, a.Stats[s][i], b.Stats[s][i], 1e-9, stats[s])
				}
			}
		}
	}
}

func TestStatsAndGapsAreKnownByName(t *testing.T) {
	stats, err := ParseStats("max, min")
	require.NoError(t, err)
	assert.Equal(t, []Stat{Max, Min}, stats)
	for text, wrong := range map[string]string{"median": "is not known; use some of count, mean", "min,min": "asked for twice"} {
		_, err := ParseStats(text)
		assert.ErrorContains(t, err, wrong)
	}
	for _, text := range []string{"leave", "carry", "join", "-2.5"} {
		g, err := ParseGaps(text)
		require.NoError(t, err)
		assert.Equal(t, text, g.String())
	}
	for _, text := range []string{"guess", "NaN", "Inf"} {
		_, err := ParseGaps(text)
		assert.ErrorContains(t, err, "use leave, carry, join or a number")
	}
}
