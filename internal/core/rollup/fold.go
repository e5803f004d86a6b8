package rollup

import (
	"math"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// Fold returns the summary of from <= time < to of a series. rows holds readings in order
// of time, at least those of the span and those of FreshFor before it, which may still
// speak for its start. Without any reading in the span Count is 0; it may be covered
// all the same.
func Fold(rows column.Block, from, to int64, def *series.Definition) (s Summary) {
	i, j := rows.Search(from), rows.Search(to)
	times, values := rows.Times[i:j], rows.Cols[0][i:j]
	for k, v := range values {
		s.add(times[k], v)
	}
	switch def.Kind {
	case series.Bearing:
		for _, v := range values {
			sin, cos := math.Sincos(v * math.Pi / 180)
			s.North += cos
			s.East += sin
		}
	case series.Counter, series.State:
		for k := 1; k < len(values); k++ {
			s.step(values[k-1], values[k], def)
		}
	}
	first := max(0, i-1)
	s.cover(rows.Times[first:j], rows.Cols[0][first:j], from, to, def)
	return s
}

// add takes one reading in, later than all before; Welford's update (1962).
func (s *Summary) add(t int64, v float64) {
	if s.Count == 0 {
		*s = Summary{Count: 1, Mean: v, Min: v, Max: v, First: v, Last: v, MinAt: t, MaxAt: t, FirstAt: t, LastAt: t}
		return
	}
	s.Count++
	delta := v - s.Mean
	s.Mean += delta / s.Count
	s.M2 += delta * (v - s.Mean)
	if v < s.Min {
		s.Min, s.MinAt = v, t
	}
	if v > s.Max {
		s.Max, s.MaxAt = v, t
	}
	s.Growing += time.Duration(t - s.LastAt)
	s.Last, s.LastAt = v, t
}

// step takes in the way from one reading to the next.
func (s *Summary) step(earlier, later float64, def *series.Definition) {
	switch def.Kind {
	case series.Counter:
		grown, reset := def.Step(earlier, later)
		s.Increase += grown
		if reset {
			s.Restarts++
		}
	case series.State:
		if earlier != later {
			s.Changes++
		}
	}
}

// cover takes in how long each reading holds within the span.
func (s *Summary) cover(times []int64, values []float64, from, to int64, def *series.Definition) {
	for k, t := range times {
		until := t + int64(def.FreshFor)
		if k+1 < len(times) {
			until = min(until, times[k+1])
		}
		s.holdFor(values[k], max(t, from), min(until, to), def)
	}
}

// holdFor takes in that value held from one time to another.
func (s *Summary) holdFor(value float64, from, to int64, def *series.Definition) {
	if to <= from {
		return
	}
	s.hold(value, time.Duration(to-from))
	if def.Kind == series.State {
		s.States = s.States.add(value, time.Duration(to-from))
	}
}
