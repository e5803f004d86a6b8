package excursion

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
)

func normal(t *testing.T, inner, outer series.Bounds) series.Normal {
	n, err := series.MakeNormal(inner, outer)
	require.NoError(t, err)
	return n
}

// windowsOf makes windows of 10 from minute values; NaN is a window without readings.
func windowsOf(pairs ...[2]float64) (out []Window) {
	for i, p := range pairs {
		w := Window{From: int64(10 * i), To: int64(10*i + 10)}
		if !math.IsNaN(p[0]) {
			w.Count, w.Min, w.Max, w.MinAt, w.MaxAt = 2, p[0], p[1], w.From+3, w.From+6
		}
		out = append(out, w)
	}
	return out
}

func TestExcursionsBeginEndAndHaveAnExtreme(t *testing.T) {
	n, none := normal(t, series.Bounds{Low: 6, High: 9}, series.Bounds{Low: 4, High: 12}), math.NaN()
	got := Find(windowsOf([2]float64{7, 8}, [2]float64{5.5, 8}, [2]float64{none, 0}, [2]float64{3, 5},
		[2]float64{7, 9.5}, [2]float64{7, 8}, [2]float64{5, 10}),
		n)
	assert.Equal(t, []Excursion{
		{From: 10, To: 40, Outer: true, Extreme: 3, At: 33, Over: true},
		{From: 40, To: 50, High: true, Extreme: 9.5, At: 46, Over: true},
		{From: 60, To: 70, Extreme: 5, At: 63},
		{From: 60, To: 70, High: true, Extreme: 10, At: 66},
	}, got)
	assert.Empty(t, Find(windowsOf([2]float64{6, 9}), n), "its ends belong to a range")
	assert.Empty(t, Find(windowsOf([2]float64{-1e9, 1e9}), ""), "without a range nothing is outside of it")
	only := normal(t, series.Anything, series.Bounds{Low: 4, High: 12})
	assert.Len(t, Find(windowsOf([2]float64{5, 13}), only), 1)
}

func TestSilencesAreThoseLongerThanAllowed(t *testing.T) {
	none, some := [2]float64{math.NaN(), 0}, [2]float64{1, 2}
	windows := windowsOf(none, none, some, none, some, none, none, none)
	assert.Equal(t, []Silence{{0, 20, true}, {50, 80, false}}, Silences(windows, 15, true))
	assert.Equal(t, []Silence{{50, 80, false}}, Silences(windows, 15, false), "what was never heard is not silent")
	assert.Equal(t, []Silence{{0, 20, true}, {30, 40, true}, {50, 80, false}}, Silences(windows, 5, true))
	assert.Empty(t, Silences(nil, 5, true))
}

// Every window outside of the range is in just one excursion of its side, and no other window is.
func TestExcursionsAreAllOfIt(t *testing.T) {
	n, random := normal(t, series.Bounds{Low: -1, High: 1}, series.Anything), rand.New(rand.NewPCG(1, 2))
	for range 500 {
		var pairs [][2]float64
		for range 30 {
			a, b := 3*random.NormFloat64(), random.NormFloat64()
			if random.IntN(5) == 0 {
				a = math.NaN()
			}
			pairs = append(pairs, [2]float64{min(a, b), max(a, b)})
		}
		windows := windowsOf(pairs...)
		for i := range windows {
			if math.IsNaN(pairs[i][0]) || math.IsNaN(pairs[i][1]) {
				windows[i].Count = 0
			}
		}
		found := Find(windows, n)
		for _, w := range windows {
			if w.Count == 0 {
				continue
			}
			in := map[bool]int{}
			for _, e := range found {
				if w.From >= e.From && w.To <= e.To {
					in[e.High]++
					assert.True(t, e.High && e.Extreme >= w.Max || !e.High && e.Extreme <= w.Min)
				}
			}
			assert.Equal(t, w.Min < -1, in[false] == 1)
			assert.Equal(t, w.Max > 1, in[true] == 1)
		}
	}
}
