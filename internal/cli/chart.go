package cli

import (
	"fmt"
	"math"
	"slices"

	"github.com/guptarohit/asciigraph"

	"nexocumula/client"
)

const (
	chartColumns = 72
	chartRows    = 10
)

// chart draws one stat of a series as text, the mean if it was asked for; a window
// without data leaves a hole.
func chart(answer client.Windows, s client.SeriesWindows) string {
	if len(s.Starts) < 2 {
		return ""
	}
	stat := answer.Stats[0]
	if slices.Contains(answer.Stats, "mean") {
		stat = "mean"
	}
	points := evenly(answer, s, stat)
	if !slices.ContainsFunc(points, func(v float64) bool { return !math.IsNaN(v) }) {
		return ""
	}
	caption := fmt.Sprintf("%s, %s of %s windows, %s to %s", s.Path, stat, answer.Width, answer.From.Format("01-02 15:04Z"), answer.To.Format("01-02 15:04Z"))
	if s.Unit != "" {
		caption += ", " + s.Unit
	}
	return asciigraph.Plot(points, asciigraph.Height(chartRows), asciigraph.Precision(2), asciigraph.Caption(caption))
}

// evenly spreads the windows of the range over the chart's columns; of several
// windows in one column the mean is drawn.
func evenly(answer client.Windows, s client.SeriesWindows, stat string) []float64 {
	length := float64(answer.To.Sub(answer.From))
	sums, counts := make([]float64, chartColumns), make([]float64, chartColumns)
	for i, start := range s.Starts {
		v := float64(s.Values[stat][i])
		at := min(chartColumns-1, int(float64(start.Sub(answer.From))/length*chartColumns))
		if !math.IsNaN(v) {
			sums[at] += v
			counts[at]++
		}
	}
	for i := range sums {
		sums[i] /= counts[i] // NaN where nothing is
	}
	return bridge(sums, s, answer)
}

// bridge fills columns that are empty only because there are fewer windows than
// columns.
func bridge(points []float64, s client.SeriesWindows, answer client.Windows) []float64 {
	if len(s.Starts) < 2 {
		return points
	}
	step := s.Starts[1].Sub(s.Starts[0])
	for i := 2; i < len(s.Starts); i++ {
		step = min(step, s.Starts[i].Sub(s.Starts[i-1]))
	}
	reach := int(math.Ceil(float64(step) / float64(answer.To.Sub(answer.From)) * chartColumns))
	last, since := math.NaN(), 0
	for i, v := range points {
		if !math.IsNaN(v) {
			last, since = v, 0
		} else if since++; since < reach {
			points[i] = last
		}
	}
	return points
}
