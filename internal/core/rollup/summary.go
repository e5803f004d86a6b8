package rollup

import (
	"math"
	"time"
)

// Summary is the mergeable record of one window's readings.
type Summary struct {
	Count       float64 // readings, at least 1
	Mean        float64
	M2          float64 // sum of squared distances from Mean
	Min, Max    float64
	First, Last float64

	// Times of those readings, nanoseconds since 1970. Of equal lows and highs, the earliest.
	MinAt, MaxAt, FirstAt, LastAt int64

	Covered time.Duration // how much of the window fresh readings speak for

	// The sum of the readings as unit vectors, of bearings only.
	North, East float64
}

// Sum of the readings.
func (s Summary) Sum() float64 { return s.Mean * s.Count }

// SD is the sample standard deviation (divided by n-1); NaN for a single reading.
func (s Summary) SD() float64 {
	if s.Count < 2 {
		return math.NaN()
	}
	return math.Sqrt(max(0, s.M2) / (s.Count - 1))
}

// Direction is the vector mean of bearings in degrees, 0 <= d < 360; NaN when the
// readings cancel out. Source: Mardia and Jupp, Directional Statistics, 2.2.1.
func (s Summary) Direction() float64 {
	if math.Hypot(s.North, s.East) < 1e-9*s.Count {
		return math.NaN()
	}
	d := math.Mod(math.Atan2(s.East, s.North)*180/math.Pi+360, 360)
	if d == 360 { // Mod of a tiny negative angle plus 360
		return 0
	}
	return d
}

// Merge is the summary of both windows' readings together. The order of the two
// does not matter. Moments follow Chan, Golub and LeVeque (1983), which stays
// accurate when the mean is large beside the spread.
func Merge(a, b Summary) Summary {
	if a.Count == 0 {
		return b
	}
	if b.Count == 0 {
		return a
	}
	if b.FirstAt < a.FirstAt {
		a, b = b, a
	}
	n := a.Count + b.Count
	delta := b.Mean - a.Mean
	out := a
	out.Count = n
	out.Mean = a.Mean + delta*(b.Count/n)
	out.M2 = a.M2 + b.M2 + delta*delta*(a.Count*b.Count/n)
	if b.Min < a.Min {
		out.Min, out.MinAt = b.Min, b.MinAt
	}
	if b.Max > a.Max {
		out.Max, out.MaxAt = b.Max, b.MaxAt
	}
	if b.LastAt > a.LastAt {
		out.Last, out.LastAt = b.Last, b.LastAt
	}
	out.Covered = a.Covered + b.Covered
	out.North = a.North + b.North
	out.East = a.East + b.East
	return out
}
