package window

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// Stat is what a query computes per window.
type Stat string

// The stats. All are in the unit of the series but Count (readings), Coverage (a
// share from 0 to 1) and the times (nanoseconds since 1970).
const (
	Count    Stat = "count"
	Sum      Stat = "sum"
	Mean     Stat = "mean"
	Min      Stat = "min"
	Max      Stat = "max"
	Range    Stat = "range"
	SD       Stat = "sd"
	First    Stat = "first"
	Last     Stat = "last"
	Coverage Stat = "coverage"
)

// Stats are all of them in the order in which they are shown.
var Stats = []Stat{Count, Mean, Min, Max, Range, SD, Sum, First, Last, Coverage}

// ParseStats reads a comma-separated list; the empty text is mean, min, max, count
// and coverage.
func ParseStats(s string) ([]Stat, error) {
	if s == "" {
		return []Stat{Mean, Min, Max, Count, Coverage}, nil
	}
	var out []Stat
	for _, name := range strings.Split(s, ",") {
		stat := Stat(strings.TrimSpace(name))
		if !slices.Contains(Stats, stat) {
			return nil, fmt.Errorf("stat %q is not known; use some of %s", name, names())
		}
		if slices.Contains(out, stat) {
			return nil, fmt.Errorf("stat %q is asked for twice", name)
		}
		out = append(out, stat)
	}
	return out, nil
}

func names() string {
	all := make([]string, len(Stats))
	for i, s := range Stats {
		all[i] = string(s)
	}
	return strings.Join(all, ", ")
}

// isValue reports whether the stat is a value of the series, which a gap can be
// filled with, and not a count or a spread.
func (s Stat) isValue() bool {
	switch s {
	case Mean, Min, Max, First, Last:
		return true
	}
	return false
}

// Of computes the stat of one window; NaN where it has no meaning: the spread of one
// reading, the lowest of a circle's angles.
func (s Stat) Of(sum rollup.Summary, width time.Duration, kind series.Kind) float64 {
	if kind == series.Bearing {
		switch s {
		case Mean:
			return sum.Direction()
		case Min, Max, Range, SD, Sum:
			return math.NaN()
		}
	}
	switch s {
	case Count:
		return sum.Count
	case Sum:
		return sum.Sum()
	case Mean:
		return sum.Mean
	case Min:
		return sum.Min
	case Max:
		return sum.Max
	case Range:
		return sum.Max - sum.Min
	case SD:
		return sum.SD()
	case First:
		return sum.First
	case Last:
		return sum.Last
	case Coverage:
		return float64(sum.Covered) / float64(width)
	}
	return math.NaN()
}
