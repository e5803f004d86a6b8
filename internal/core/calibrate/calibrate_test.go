package calibrate

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// slowly returns a table read as a person would: look for the two points it lies between.
func slowly(points []Point, raw float64) float64 {
	for i := range points[:len(points)-1] {
		a, b := points[i], points[i+1]
		if raw <= b.Raw || i == len(points)-2 {
			return a.True + (b.True-a.True)*(raw-a.Raw)/(b.Raw-a.Raw)
		}
	}
	panic("unreachable")
}

func TestTablesAreReadAsByHand(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		points := make([]Point, 2+random.IntN(20))
		raw, value, way := random.NormFloat64()*100, random.NormFloat64()*10, []float64{1, -1}[random.IntN(2)]
		for i := range points {
			raw, value = raw+0.1+random.ExpFloat64()*10, value+way*(0.01+random.ExpFloat64())
			points[i] = Point{raw, value}
		}
		shuffled := slices.Clone(points)
		random.Shuffle(len(shuffled), func(i, k int) { shuffled[i], shuffled[k] = shuffled[k], shuffled[i] })
		table, err := NewTable(shuffled)
		require.NoError(t, err)
		for range 50 {
			x := points[0].Raw - 20 + random.Float64()*(points[len(points)-1].Raw-points[0].Raw+40)
			got := table.Apply(x)
			assert.InDelta(t, slowly(points, x), got, 1e-9*(1+math.Abs(got)))
		}
		for _, p := range points {
			assert.Equal(t, p.True, table.Apply(p.Raw), "a point is what it says, to the last digit")
		}
	}
}

func TestPointsThatAreNoCurveAreRefused(t *testing.T) {
	for wrong, points := range map[string][]Point{
		"2 to 200":                  {{1, 2}},
		"stands there twice":        {{1, 2}, {1, 3}},
		"one of the points":         {{0, 0}, {1, 5}, {2, 4}},
		"from [0, 1] to [1, 1]":     {{0, 1}, {1, 1}},
		"is no pair of numbers":     {{0, 1}, {math.Inf(1), 2}},
		"from [1, -1] to [2, -0.5]": {{0, 0}, {1, -1}, {2, -0.5}},
	} {
		_, err := NewTable(points)
		assert.ErrorContains(t, err, wrong)
	}
	_, err := NewPolynomial([]float64{1})
	assert.ErrorContains(t, err, "2 to 10")
	_, err = NewPolynomial([]float64{1, math.NaN()})
	assert.ErrorContains(t, err, "no number")
}

func TestPolynomialsAreSumsOfPowers(t *testing.T) {
	p, err := NewPolynomial([]float64{1.5, -2, 0, 0.25})
	require.NoError(t, err)
	for _, x := range []float64{-3, 0, 0.1, 12} {
		assert.InDelta(t, 1.5-2*x+0.25*math.Pow(x, 3), p.Apply(x), 1e-9)
	}
	assert.Equal(t, -1.15, Linear{Scale: 0.01, Offset: 1}.Apply(-215))
	for raw := range 30_000 { // decimals come out as they are written
		for scale, digits := range map[float64]float64{0.1: 10, 0.01: 100, 0.001: 1000} {
			require.Equal(t, float64(raw)/digits, Linear{Scale: scale}.Apply(float64(raw)))
		}
	}
	assert.True(t, math.Signbit(Identity.Apply(math.Copysign(0, -1))), "what is not calibrated keeps its bits")
}

func TestOutsideOfItsRangeACalibrationDoesWhatItSays(t *testing.T) {
	// A probe that says 120 when it is dry and 880 in water.
	table, err := NewTable([]Point{{120, 0}, {880, 100}})
	require.NoError(t, err)
	for _, test := range []struct {
		outside Outside
		raw     float64
		value   float64
		refused bool
	}{
		{Extend, 500, 50, false}, {Extend, 44, -10, false}, {Clamp, 44, 0, false}, {Clamp, 1000, 100, false}, {Clamp, 500, 50, false},
		{Refuse, 44, 0, true}, {Refuse, 881, 0, true}, {Refuse, 120, 0, false},
	} {
		c := Calibration{Curve: table, Low: 120, High: 880, Outside: test.outside, Decimals: 1}
		v, refusal := c.Apply(test.raw)
		if test.refused {
			assert.Contains(t, refusal, "120 to 880", test)
		} else {
			assert.Empty(t, refusal, test)
			assert.Equal(t, test.value, v, test)
		}
	}
	c := Calibration{Curve: Linear{Scale: 1.0 / 3}, Low: math.Inf(-1), High: math.Inf(1), Decimals: 2}
	v, _ := c.Apply(1)
	assert.Equal(t, 0.33, v)
	v, _ = c.Apply(1e300)
	assert.Equal(t, 1e300/3, v, "what has no decimals to round stays")
}

func TestOfVersionsThatOfTheTimeCounts(t *testing.T) {
	day := func(n int) int64 { return time.Date(2026, 3, n, 0, 0, 0, 0, time.UTC).UnixNano() }
	v := Versions{{Since: day(2), Curve: Identity, Decimals: 1}, {Since: day(5), Curve: Identity, Decimals: 2}}
	assert.Nil(t, v.At(day(1)))
	assert.Equal(t, 1, v.At(day(2)).Decimals)
	assert.Equal(t, 1, v.At(day(5)-1).Decimals)
	assert.Equal(t, 2, v.At(day(5)).Decimals)
	assert.Nil(t, Versions{}.At(day(1)))
	assert.Equal(t, "raw × 1 + 0, decimals 2, since 2026-03-05T00:00:00Z",
		func() string { c := v[1]; c.Outside = Extend; return c.String() }())
}
