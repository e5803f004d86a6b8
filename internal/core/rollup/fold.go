package rollup

import (
	"math"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// Fold is the summary of one window, start <= time < start+width, of a series. rows
// holds readings in order of time, at least those of the window and those of
// FreshFor before it, which may still speak for the window's begin. ok is false
// when the window holds no reading.
func Fold(rows column.Block, start int64, width time.Duration, def series.Definition) (s Summary, ok bool) {
	end := start + int64(width)
	i, j := rows.Search(start), rows.Search(end)
	if i == j {
		return s, false
	}
	times, values := rows.Times[i:j], rows.Cols[0][i:j]
	for k, v := range values {
		s.add(times[k], v)
	}
	if def.Kind == series.Bearing {
		for _, v := range values {
			sin, cos := math.Sincos(v * math.Pi / 180)
			s.North += cos
			s.East += sin
		}
	}
	s.Covered = covered(rows.Times[max(0, i-1):j], start, end, def.FreshFor)
	return s, true
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
	s.Last, s.LastAt = v, t
}

// covered is how much of the window lies within freshFor after a reading.
func covered(times []int64, start, end int64, freshFor time.Duration) time.Duration {
	var sum int64
	for k, t := range times {
		until := t + int64(freshFor)
		if k+1 < len(times) {
			until = min(until, times[k+1])
		}
		sum += max(0, min(until, end)-max(t, start))
	}
	return time.Duration(sum)
}
