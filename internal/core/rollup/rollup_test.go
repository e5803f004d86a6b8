package rollup

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

const second = int64(time.Second)

var gauge = &series.Definition{Kind: series.Gauge, FreshFor: 15 * time.Second}

func readings(pairs ...float64) column.Block {
	b := column.New(1, 0)
	for i := 0; i < len(pairs); i += 2 {
		b.Add(int64(pairs[i]*float64(second)), pairs[i+1])
	}
	return b
}

func TestASummarySaysWhatAHandWould(t *testing.T) {
	// One before the window, four in it, one behind.
	rows := readings(-5, 99, 0, 2, 4, 4, 10, 4, 30, 6, 60, 99)
	s := Fold(rows, 0, 60*second, gauge)
	assert.EqualValues(t, 4, s.Count)
	assert.EqualValues(t, 4, s.Mean)
	assert.InDelta(t, math.Sqrt(8.0/3), s.SD(), 1e-12) // (4+0+0+4)/3
	assert.EqualValues(t, 2, s.Min)
	assert.EqualValues(t, 6, s.Max)
	assert.Equal(t, 0*second, s.MinAt)
	assert.Equal(t, 30*second, s.MaxAt)
	assert.EqualValues(t, 2, s.First)
	assert.EqualValues(t, 6, s.Last)
	// 0 to 25 s without a break, then 30 to 45 s.
	assert.Equal(t, 40*time.Second, s.Covered)
	assert.InDelta(t, (4*2+6*4+15*4+15*6)/40.0, s.Held, 1e-12)

	assert.Zero(t, Fold(rows, 120*second, 180*second, gauge).Count, "a window without readings has no summary")
}

func TestAReadingBeforeTheWindowSpeaksForItsBegin(t *testing.T) {
	s := Fold(readings(-5, 7, 30, 1), 0, 60*second, gauge)
	assert.Equal(t, 25*time.Second, s.Covered) // 0 to 10 s of the one before, 30 to 45 s
	assert.InDelta(t, (10*7+15*1)/25.0, s.Held, 1e-12)
	s = Fold(readings(-5, 7), 0, 60*second, gauge)
	assert.Zero(t, s.Count)
	assert.Equal(t, 10*time.Second, s.Covered)
}

func TestOneReadingHasNoSpread(t *testing.T) {
	assert.True(t, math.IsNaN(Fold(readings(1, 5), 0, 60*second, gauge).SD()))
}

func TestBearingsTurnThroughNorth(t *testing.T) {
	wind := &series.Definition{Kind: series.Bearing, FreshFor: time.Minute}
	s := Fold(readings(0, 350, 1, 10, 2, 20), 0, 60*second, wind)
	assert.InDelta(t, 6.705, s.Direction(), 0.001)        // atan(0.34202 / 2.90931): the sums of sines and cosines
	assert.InDelta(t, 2.92934/3, s.Steadiness(), 0.00001) // their root of squares, over 3
	s = Fold(readings(0, 359, 1, 1), 0, 60*second, wind)
	assert.InDelta(t, 0, math.Mod(s.Direction()+180, 360)-180, 1e-9)
	s = Fold(readings(0, 90, 1, 270), 0, 60*second, wind)
	assert.True(t, math.IsNaN(s.Direction()), "two that cancel out have no mean")
	assert.InDelta(t, 0, s.Steadiness(), 1e-9)
}

func TestCountersGrowThroughWrapsAndResets(t *testing.T) {
	for _, test := range []struct {
		wrap               float64
		values             []float64
		increase, restarts float64
	}{
		{0, []float64{5, 7, 7, 10}, 5, 0},
		{0, []float64{5, 7, 3, 4}, 2 + 3 + 1, 1},    // from 0 to 3 after the reset
		{65536, []float64{65530, 4, 10}, 10 + 6, 0}, // six steps to the turn, then four
		{65536, []float64{30000, 5}, 5, 1},          // half the width is no wrap
		{65536, []float64{65535, 0}, 1, 0},
		{0, []float64{42}, 0, 0},
	} {
		def := &series.Definition{Kind: series.Counter, FreshFor: time.Minute, Wrap: test.wrap}
		rows := column.New(1, 0)
		for i, v := range test.values {
			rows.Add(int64(i)*second, v)
		}
		s := Fold(rows, 0, 60*second, def)
		assert.Equal(t, [2]float64{test.increase, test.restarts}, [2]float64{s.Increase, s.Restarts}, test.values)
	}
}

func TestStatesHaveTimesAndChanges(t *testing.T) {
	pump := &series.Definition{Kind: series.State, FreshFor: 20 * time.Second}
	s := Fold(readings(-5, 2, 5, 1, 10, 1, 20, 0, 50, 1), 0, 60*second, pump)
	assert.EqualValues(t, 2, s.Changes)
	assert.Equal(t, States{{0, 20 * time.Second}, {1, 25 * time.Second}, {2, 5 * time.Second}}, s.States)
	assert.EqualValues(t, 0, s.States.Of(7))
	many := column.New(1, 0)
	for i := range 30 {
		many.Add(int64(i)*second, float64(i))
	}
	s = Fold(many, 0, 30*second, pump)
	assert.Len(t, s.States, 1)
	assert.Equal(t, 30*time.Second, s.States[0].Held)
	assert.True(t, math.IsNaN(s.States.Of(3)), "what a summary does not tell apart it does not guess")
}

// split folds rows window by window, as a gateway does, into a block of summaries.
func split(rows column.Block, from, to, width int64, def *series.Definition) column.Block {
	b := NewBlock(def.Kind, 0)
	for at := from; at < to; at += width {
		if s := Fold(rows, at, at+width, def); s.Count > 0 {
			s.AddTo(&b, at, def.Kind)
		}
	}
	return b
}

func TestAnySplitInAnyGroupingIsOnePass(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	kinds := []series.Kind{series.Gauge, series.Counter, series.State, series.Bearing}
	for round := range 2000 {
		def := &series.Definition{
			Kind:     kinds[round%4],
			FreshFor: time.Duration(1+random.IntN(40)) * time.Second,
			Wrap:     []float64{0, 100}[random.IntN(2)],
		}
		offset, spread := math.Pow(10, float64(random.IntN(10))), math.Pow(10, float64(random.IntN(7)-3))
		rows := column.New(1, 0)
		for at := int64(0); at < 600*second; at += 1 + random.Int64N(20*second) {
			v := offset + spread*random.NormFloat64()
			if def.Kind != series.Gauge {
				v = float64(random.IntN(10)) * 10
			}
			rows.Add(at, v)
			if random.IntN(30) == 0 {
				at += random.Int64N(100 * second) // an outage
			}
		}
		// One pass from the first reading on.
		whole := NewJoiner(def, NeedAll)
		whole.Begin(0)
		whole.Readings(rows, 0, rows.Len())
		want := whole.End(600 * second)

		// The same from summaries of a tier, given in runs of any length, some merged before.
		width := []int64{10 * second, 30 * second, 60 * second}[random.IntN(3)]
		tier := split(rows, 0, 600*second, width, def)
		joined := NewJoiner(def, NeedAll)
		joined.Begin(0)
		for i := 0; i < tier.Len(); {
			k := min(tier.Len(), i+1+random.IntN(20))
			switch random.IntN(3) {
			case 0:
				joined.Summaries(tier, i, k, width)
			case 1:
				for ; i < k; i++ {
					joined.Add(tier.Times[i], tier.Times[i]+width, FromRow(tier, i, def.Kind))
				}
			default:
				inner := NewJoiner(def, NeedAll)
				inner.Begin(tier.Times[i])
				inner.Summaries(tier, i, k, width)
				to := tier.Times[k-1] + width
				joined.Add(tier.Times[i], to, inner.End(to))
			}
			i = k
		}
		same(t, want, joined.End(600*second), offset)
	}
}

// same compares two summaries of the same readings: exactly where no rounding is.
func same(t *testing.T, want, got Summary, offset float64) {
	t.Helper()
	require.Equal(t, want.Count, got.Count)
	exact := func(s Summary) []any {
		return []any{
			s.Min, s.Max, s.First, s.Last, s.MinAt, s.MaxAt, s.FirstAt, s.LastAt, s.Covered, s.Increase, s.Restarts,
			s.Changes, s.States, s.Growing,
		}
	}
	require.Equal(t, exact(want), exact(got))
	require.InDelta(t, want.Mean, got.Mean, 1e-13*(1+math.Abs(want.Mean)))
	require.InDelta(t, want.Held, got.Held, 1e-13*(1+math.Abs(want.Held)))
	require.InDelta(t, want.North, got.North, 1e-9)
	require.InDelta(t, want.East, got.East, 1e-9)
	if want.Count > 1 { // a mean of 1e9 leaves about 1e-7 of precision for the spread of each reading
		require.InDelta(t, want.SD(), got.SD(), 1e-6*want.SD()+1e-15*math.Abs(offset))
	}
}

func TestALargeMeanKeepsItsSmallSpread(t *testing.T) {
	rows := column.New(1, 0)
	for i := range 60 {
		rows.Add(int64(i)*second, 1e9+1e-3*float64(i%2))
	}
	want := 1e-3 * math.Sqrt(0.25*60/59)
	assert.InEpsilon(t, want, Fold(rows, 0, 60*second, gauge).SD(), 1e-3)
	joined := NewJoiner(gauge, NeedAll)
	joined.Begin(0)
	parts := split(rows, 0, 60*second, 10*second, gauge)
	joined.Summaries(parts, 0, parts.Len(), 10*second)
	assert.InEpsilon(t, want, joined.End(60*second).SD(), 1e-3)
}

func TestSummariesSurviveAsColumns(t *testing.T) {
	for _, kind := range []series.Kind{series.Gauge, series.Counter, series.State, series.Bearing} {
		def := &series.Definition{Kind: kind, FreshFor: 15 * time.Second}
		b := NewBlock(kind, 1)
		first := Fold(readings(1, 3), 0, 60*second, def)
		next := Fold(readings(61, 2, 64, 4, 70, 9), 60*second, 120*second, def)
		first.AddTo(&b, 0, kind)
		next.AddTo(&b, 60*second, kind)
		require.NoError(t, b.Check())
		assert.Equal(t, first, FromRow(b, 0, kind))
		assert.Equal(t, next, FromRow(b, 1, kind))
	}
}
