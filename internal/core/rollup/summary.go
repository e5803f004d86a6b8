package rollup

import (
	"math"
	"time"
)

// Summary is the mergeable record of the readings of a span of time.
type Summary struct {
	Count       float64 // readings
	Mean        float64
	M2          float64 // sum of squared distances from Mean
	Min, Max    float64
	First, Last float64

	// Times of those readings, nanoseconds since 1970. Of equal lows and highs, the earliest.
	MinAt, MaxAt, FirstAt, LastAt int64

	// How much of the span readings speak for, and the mean over that time: each
	// reading holds until the next, and for as long as its series says at most.
	Covered time.Duration
	Held    float64

	// Of bearings: the sum of the readings as unit vectors.
	North, East float64

	// Of counters: by how much it grew, and how often it began again from 0.
	Increase, Restarts float64

	// Of states: from one reading to the next, how often the value was another; and how
	// long each value held.
	Changes float64
	States  States

	// Growing is the time in which Increase came about: that of all the steps it counts,
	// the first from the reading before the span, if there was one.
	Growing time.Duration
}

// Sum of the readings.
func (s Summary) Sum() float64 { return s.Mean * s.Count }

// SD returns the sample standard deviation (divided by n-1); NaN for a single reading.
func (s Summary) SD() float64 {
	if s.Count < 2 {
		return math.NaN()
	}
	return math.Sqrt(max(0, s.M2) / (s.Count - 1))
}

// Direction returns the vector mean of bearings in degrees, 0 <= d < 360; NaN when the
// readings cancel out. Source: Mardia and Jupp, Directional Statistics, 2.2.1.
func (s Summary) Direction() float64 {
	if s.Count == 0 || math.Hypot(s.North, s.East) < 1e-9*s.Count {
		return math.NaN()
	}
	d := math.Mod(math.Atan2(s.East, s.North)*180/math.Pi+360, 360)
	if d == 360 { // Mod of a tiny negative angle plus 360
		return 0
	}
	return d
}

// Steadiness of bearings is the length of the mean vector: 1 when all are the same, 0
// when they cancel out. Mardia and Jupp call it the mean resultant length, 2.3.1.
func (s Summary) Steadiness() float64 {
	return min(1, math.Hypot(s.North, s.East)/s.Count)
}

// Absorb takes in the readings of another span, which may be before or after, but must
// not overlap. Moments follow Chan, Golub and LeVeque (1983), which stays accurate when
// the mean is large beside the spread. What lies between the two, the step from one's
// last reading to the other's first and the time held in between, is up to the caller:
// see Joiner.
func (s *Summary) Absorb(o *Summary) {
	s.hold(o.Held, o.Covered)
	if len(o.States) > 0 {
		s.States = s.States.plus(o.States)
	}
	if o.Count == 0 {
		return
	}
	if s.Count == 0 {
		held, covered, states := s.Held, s.Covered, s.States
		*s = *o
		s.Held, s.Covered, s.States = held, covered, states
		return
	}
	n := s.Count + o.Count
	delta := o.Mean - s.Mean
	s.M2 += o.M2 + delta*delta*(s.Count*o.Count/n)
	s.Mean += delta * (o.Count / n)
	s.Count = n
	if o.Min < s.Min || o.Min == s.Min && o.MinAt < s.MinAt {
		s.Min, s.MinAt = o.Min, o.MinAt
	}
	if o.Max > s.Max || o.Max == s.Max && o.MaxAt < s.MaxAt {
		s.Max, s.MaxAt = o.Max, o.MaxAt
	}
	if o.FirstAt < s.FirstAt {
		s.First, s.FirstAt = o.First, o.FirstAt
	}
	if o.LastAt > s.LastAt {
		s.Last, s.LastAt = o.Last, o.LastAt
	}
	s.North, s.East = s.North+o.North, s.East+o.East
	s.Increase, s.Restarts = s.Increase+o.Increase, s.Restarts+o.Restarts
	s.Changes += o.Changes
	s.Growing += o.Growing
}

// hold takes in that value held for a time.
func (s *Summary) hold(value float64, length time.Duration) {
	if length <= 0 {
		return
	}
	s.Covered += length
	s.Held += (value - s.Held) * (float64(length) / float64(s.Covered))
}
