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

var gauge = series.Definition{Kind: series.Gauge, FreshFor: 15 * time.Second}

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
	s, ok := Fold(rows, 0, time.Minute, gauge)
	require.True(t, ok)
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

	_, ok = Fold(rows, 120*second, time.Minute, gauge)
	assert.False(t, ok, "a window without readings has no summary")
}

func TestAReadingBeforeTheWindowSpeaksForItsBegin(t *testing.T) {
	s, ok := Fold(readings(-5, 1, 30, 1), 0, time.Minute, gauge)
	require.True(t, ok)
	assert.Equal(t, 25*time.Second, s.Covered) // 0 to 10 s of the one before, 30 to 45 s
}

func TestOneReadingHasNoSpread(t *testing.T) {
	s, _ := Fold(readings(1, 5), 0, time.Minute, gauge)
	assert.True(t, math.IsNaN(s.SD()))
}

func TestBearingsTurnThroughNorth(t *testing.T) {
	wind := series.Definition{Kind: series.Bearing, FreshFor: time.Minute}
	s, _ := Fold(readings(0, 350, 1, 10, 2, 20), 0, time.Minute, wind)
	assert.InDelta(t, 6.705, s.Direction(), 0.001) // atan(0.34202 / 2.90931): the sums of sines and cosines
	s, _ = Fold(readings(0, 359, 1, 1), 0, time.Minute, wind)
	assert.InDelta(t, 0, math.Mod(s.Direction()+180, 360)-180, 1e-9)
	s, _ = Fold(readings(0, 90, 1, 270), 0, time.Minute, wind)
	assert.True(t, math.IsNaN(s.Direction()), "two that cancel out have no mean")
}

func TestMergingAnySplitIsOnePass(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	for range 500 {
		offset, spread := math.Pow(10, float64(random.IntN(10))), math.Pow(10, float64(random.IntN(7)-3))
		rows := column.New(1, 0)
		for i := range 60 {
			for k := range 1 + random.IntN(3) {
				rows.Add(int64(i)*second+int64(k)*second/4, offset+spread*random.NormFloat64())
			}
		}
		whole, _ := Fold(rows, 0, time.Minute, gauge)
		var parts []Summary
		for from := 0; from < 60; {
			to := min(60, from+1+random.IntN(20))
			if s, ok := Fold(rows, int64(from)*second, time.Duration(to-from)*time.Second, gauge); ok {
				parts = append(parts, s)
			}
			from = to
		}
		for len(parts) > 1 { // any two, in any grouping
			i := random.IntN(len(parts) - 1)
			parts[i] = Merge(parts[i+1], parts[i])
			parts = append(parts[:i+1], parts[i+2:]...)
		}
		got := parts[0]
		assert.Equal(t, whole.Count, got.Count)
		assert.Equal(t, [6]any{whole.Min, whole.Max, whole.First, whole.Last, whole.MinAt, whole.MaxAt}, [6]any{got.Min, got.Max, got.First, got.Last, got.MinAt, got.MaxAt})
		assert.Equal(t, whole.Covered, got.Covered)
		assert.InEpsilon(t, whole.Mean, got.Mean, 1e-14)
		// A mean of 1e9 leaves about 1e-7 of precision for the spread of each reading.
		assert.InDelta(t, whole.SD(), got.SD(), 1e-6*whole.SD()+1e-15*math.Abs(offset))
	}
}

func TestALargeMeanKeepsItsSmallSpread(t *testing.T) {
	rows := column.New(1, 0)
	for i := range 60 {
		rows.Add(int64(i)*second, 1e9+1e-3*float64(i%2))
	}
	s, _ := Fold(rows, 0, time.Minute, gauge)
	assert.InEpsilon(t, 1e-3*math.Sqrt(0.25*60/59), s.SD(), 1e-3)
}

func TestSummariesSurviveAsColumns(t *testing.T) {
	s, _ := Fold(readings(61, 2, 64, -4, 70, 9), 60*second, time.Minute, gauge)
	b := NewBlock(1)
	s.AddTo(&b, 60*second)
	assert.Len(t, b.Cols, len(Columns))
	assert.Equal(t, s, FromRow(b, 0))
}

func TestTiersCountFrom1970AlsoBeforeIt(t *testing.T) {
	assert.Equal(t, 60*second, Minute.Start(119*second))
	assert.Equal(t, -60*second, Minute.Start(-1))
	assert.Equal(t, -60*second, Minute.Start(-60*second))
	assert.Equal(t, "10s", TenSecond.String())
	assert.Equal(t, "readings", Readings.String())
}
