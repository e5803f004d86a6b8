package thin

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

const second = int64(time.Second)

// shapes are ways for values to go on from the one before.
var shapes = map[string]func(r *rand.Rand, i int, before float64) float64{
	"walk":         func(r *rand.Rand, _ int, v float64) float64 { return v + r.NormFloat64() },
	"flat":         func(r *rand.Rand, _ int, v float64) float64 { return v + float64(r.IntN(20)/19) },
	"spikes":       func(r *rand.Rand, i int, _ float64) float64 { return float64(i%17/16) * r.Float64() * 1e6 },
	"on the edge":  func(_ *rand.Rand, i int, _ float64) float64 { return float64(i%2*2 - 1) },
	"just over":    func(_ *rand.Rand, i int, _ float64) float64 { return float64(i%2*2-1) * (1 + 1e-12) },
	"straight":     func(_ *rand.Rand, i int, _ float64) float64 { return 0.1 * float64(i) },
	"bent":         func(_ *rand.Rand, i int, _ float64) float64 { return float64(i) * float64(i) / 100 },
	"large":        func(r *rand.Rand, _ int, _ float64) float64 { return 1e15 + r.NormFloat64() },
	"largest":      func(_ *rand.Rand, i int, _ float64) float64 { return math.MaxFloat64 * float64(1-i%3) },
	"tiny":         func(r *rand.Rand, _ int, _ float64) float64 { return r.Float64() * 5e-324 },
	"growing fast": func(_ *rand.Rand, i int, _ float64) float64 { return math.Exp(float64(i % 700)) },
}

func made(r *rand.Rand, shape func(*rand.Rand, int, float64) float64, gaps bool) column.Block {
	rows := column.New(1, 0)
	at, value := 1000*second+r.Int64N(100*second), 0.0
	for i := range 600 {
		value = shape(r, i, value)
		rows.Add(at, value)
		at += second + r.Int64N(5*second)
		if gaps && r.IntN(50) == 0 {
			at += 90 * second
		}
	}
	return rows
}

// says returns the value of kept readings at a time: the last value, or the straight line to the next.
func says(r series.Thinning, kept column.Block, t int64) float64 {
	i := kept.Search(t+1) - 1
	v := kept.Cols[0][i]
	if r.Method == series.SwingingDoor && i+1 < kept.Len() {
		v += float64(t-kept.Times[i]) / float64(kept.Times[i+1]-kept.Times[i]) * (kept.Cols[0][i+1] - v)
	}
	return v
}

func TestWhatGoesIsWithinTheStatedErrorOfWhatStays(t *testing.T) {
	def := &series.Definition{Kind: series.Gauge, FreshFor: time.Minute}
	rules := []series.Thinning{
		{Method: series.OnChange, Silence: time.Minute}, {
			Method:  series.Deadband,
			Within:  1,
			Silence: time.Minute,
		}, {Method: series.Deadband, Relative: 0.05, Silence: 30 * time.Second},
		{
			Method:   series.Deadband,
			Within:   0.01,
			Relative: 0.01,
			Silence:  time.Minute,
		}, {
			Method:  series.SwingingDoor,
			Within:  1,
			Silence: time.Hour,
		}, {Method: series.SwingingDoor, Within: 0.001, Silence: 10 * time.Second},
	}
	for name, shape := range shapes {
		for seed := range uint64(20) {
			for _, rule := range rules {
				require.NoError(t, rule.Check(def.Kind))
				def.Thinning = rule
				rows := made(rand.New(rand.NewPCG(seed, 9)), shape, seed%2 == 0)
				from, until := rows.Times[50], rows.Times[500]
				kept, tally := Thin(rows, from, until, def)
				about := fmt.Sprintf("%s, %s, seed %d", name, rule, seed)

				require.EqualValues(t, 450, tally.Arrived, about)
				require.EqualValues(t, rows.Len()-kept.Len(), tally.Arrived-tally.Kept, about)
				worst := 0.0
				for i, at := range rows.Times {
					k := kept.Search(at)
					if k < kept.Len() && kept.Times[k] == at {
						require.Equal(t, rows.Cols[0][i], kept.Cols[0][k], about)
						continue
					}
					require.True(t, at >= from && at < until, about)
					off := math.Abs(rows.Cols[0][i] - says(rule, kept, at))
					last := kept.Cols[0][kept.Search(at)-1]
					require.LessOrEqual(t, off,
						max(rule.Within, rule.Relative*math.Abs(last))*(1+1e-9)+1e-15*math.Abs(last), about)
					worst = max(worst, off)
				}
				require.InDelta(t, worst, tally.Worst, 1e-9*(1+worst), about)
				for i := 1; i < kept.Len(); i++ {
					if gap := kept.Times[i] - kept.Times[i-1]; gap > int64(rule.Silence) {
						k := rows.Search(kept.Times[i-1])
						require.Equal(t, kept.Times[i], rows.Times[k+1], "%s: no silence of %v that there was not",
							about, time.Duration(gap))
					}
				}
				again, _ := Thin(kept, math.MinInt64, from, def) // what was before is not asked about twice
				require.Equal(t, kept.Times[kept.Search(from):], again.Times[again.Search(from):], about)
			}
		}
	}
}

func TestADeadbandKeepsWhatASlowOneWould(t *testing.T) {
	def := &series.Definition{Kind: series.Bearing, FreshFor: time.Hour}
	def.Thinning = series.Thinning{Method: series.Deadband, Within: 5, Silence: time.Hour}
	rows := column.New(1, 0)
	r := rand.New(rand.NewPCG(1, 1))
	v := 355.0
	for i := range 300 {
		rows.Add(int64(i)*30*second, v)
		v = math.Mod(v+r.NormFloat64()*4+360, 360)
	}
	kept, _ := Thin(rows, rows.Times[1], rows.Times[299], def)
	want := []int64{0}
	last := rows.Cols[0][0]
	for i := 1; i < 299; i++ {
		d := math.Abs(rows.Cols[0][i] - last)
		if min(d, 360-d) > 5 || rows.Times[i+1]-want[len(want)-1] > int64(time.Hour) || i == 298 {
			want, last = append(want, rows.Times[i]), rows.Cols[0][i]
		}
	}
	assert.Equal(t, append(want, rows.Times[299]), kept.Times)
}

func TestTheFirstValueAfterAStartIsNoChange(t *testing.T) {
	def := &series.Definition{Kind: series.State, FreshFor: time.Minute}
	def.Thinning = series.Thinning{Method: series.OnChange, Silence: time.Minute}
	rows := column.New(1, 0)
	for i := range 100 {
		rows.Add(int64(i)*second, 2)
	}
	kept, tally := Thin(rows, rows.Times[1], rows.Times[90], def) // one that was kept, and what came since
	assert.Equal(t, []int64{0, 60, 89}, []int64{kept.Times[0] / second, kept.Times[1] / second, kept.Times[2] / second})
	assert.Equal(t, Tally{Arrived: 89, Kept: 2}, tally)
}

func TestWindowsBesideAGapStayWhole(t *testing.T) {
	def := &series.Definition{Kind: series.Gauge, FreshFor: 20 * time.Second}
	rows := column.New(1, 0)
	for i := range 400 {
		if at := int64(i) * second; at < 123*second || at >= 207*second {
			rows.Add(at, 5)
		}
	}
	def.Thinning = series.Thinning{Method: series.OnChange, Silence: 20 * time.Second}
	kept, _ := Thin(rows, 0, 300*second, def)
	for _, window := range []int64{120, 200} {
		start, end := window*second, (window+10)*second
		assert.Equal(t, rows.Between(start, end).Times, kept.Between(start, end).Times)
	}
	assert.True(t, slices.Contains(kept.Times, 119*second), "it speaks for the start of the window that stays whole")
	assert.Less(t, kept.Between(0, 100*second).Len(), 20)
	assert.Equal(t, rollup.Fold(rows, 120*second, 130*second, def), rollup.Fold(kept, 120*second, 130*second, def))
}
