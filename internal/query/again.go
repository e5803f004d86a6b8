package query

import (
	"fmt"
	"math"
	"slices"

	"nexocumula/internal/core/window"
)

// Again is a function over the windows of a stat: the mean of the daily minima, say.
type Again struct {
	Name string
	of   func(sorted []float64) float64
}

// AgainRow holds the result for each stat of a series; NaN for stats that are times.
type AgainRow struct {
	Name   string
	Values []float64
}

// ParseAgain reads a comma-separated list of mean, min, max, sum, sd, count and percentiles
// such as p50.
func ParseAgain(text string) (out []Again, err error) {
	if text == "" {
		return nil, nil
	}
	stats, err := window.ParseStats(text)
	if err != nil {
		return nil, fmt.Errorf("then %q: of the windows' stats there are mean, min, max, sum, sd, count and percentiles such as p50",
			text)
	}
	for _, s := range stats {
		one := Again{Name: s.String()}
		switch {
		case s.IsPercentile():
			one.of = func(v []float64) float64 { return window.Quantile(v, s.Value) }
		case againFunctions[s.Name] != nil:
			one.of = againFunctions[s.Name]
		default:
			return nil, fmt.Errorf("then %q: of the windows' stats there are mean, min, max, sum, sd, count and percentiles such as p50",
				text)
		}
		out = append(out, one)
	}
	return out, nil
}

var againFunctions = map[string]func(sorted []float64) float64{
	"count": func(v []float64) float64 { return float64(len(v)) },
	"sum":   total,
	"min":   func(v []float64) float64 { return window.Quantile(v, 0) },
	"max":   func(v []float64) float64 { return window.Quantile(v, 100) },
	"mean":  func(v []float64) float64 { return total(v) / float64(len(v)) },
	"sd": func(v []float64) float64 {
		mean, squares := total(v)/float64(len(v)), 0.0
		for _, x := range v {
			squares += (x - mean) * (x - mean)
		}
		if len(v) < 2 {
			return math.NaN()
		}
		return math.Sqrt(squares / float64(len(v)-1))
	},
}

func total(v []float64) (sum float64) {
	for _, x := range v {
		sum += x
	}
	return sum
}

// again computes them over the windows that have a number. Where a window has readings and its number is not known,
// or lies between bounds that lead to different outcomes, there is no outcome.
func again(rows SeriesRows, functions []Again) (out []AgainRow) {
	for _, f := range functions {
		one := AgainRow{Name: f.Name, Values: make([]float64, len(rows.Stats))}
		for i := range rows.Stats {
			one.Values[i] = f.over(rows, i)
		}
		out = append(out, one)
	}
	return out
}

func (f Again) over(rows SeriesRows, i int) float64 {
	var least, most []float64
	if i >= len(rows.Times) || rows.Times[i] == nil {
		for k, v := range rows.Rows.Stats[i] {
			low, high := v, v
			if math.IsNaN(v) && i < len(rows.Least) && rows.Least[i] != nil {
				low, high = rows.Least[i][k], rows.Most[i][k]
			}
			switch {
			case !math.IsNaN(low):
				least, most = append(least, low), append(most, high)
			case i < len(rows.Unknown) && rows.Unknown[i] != nil && rows.Unknown[i][k] && f.Name != "count":
				return math.NaN()
			}
		}
	}
	if len(least) == 0 && f.Name != "count" {
		return math.NaN()
	}
	same := slices.Equal(least, most)
	slices.Sort(least)
	slices.Sort(most)
	low, high := f.of(least), f.of(most)
	if f.Name == "sd" && !same || low != high {
		return math.NaN()
	}
	return low
}
