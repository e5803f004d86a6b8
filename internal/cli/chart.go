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
	stat := ""
	for _, one := range append([]string{"mean"}, answer.Stats...) {
		if s.Values[one] != nil {
			stat = one
			break
		}
	}
	if len(answer.Starts) < 2 || stat == "" {
		return ""
	}
	points := spread(answer, s.Values[stat])
	if !slices.ContainsFunc(points, func(v float64) bool { return !math.IsNaN(v) }) {
		return ""
	}
	caption := fmt.Sprintf("%s, %s of %s windows, %s to %s", s.Name, stat, answer.Width, answer.From.Format("01-02 15:04Z"), answer.To.Format("01-02 15:04Z"))
	if n := len(answer.Places); n > 0 {
		caption = fmt.Sprintf("%s, %s of %s windows, folded from %s to %s", s.Name, stat, answer.Width, answer.Places[0], answer.Places[n-1])
	}
	if s.Shift != "" {
		caption += ", " + s.Shift + " earlier"
	}
	if s.Unit != "" {
		caption += ", " + s.Unit
	}
	return asciigraph.Plot(points, asciigraph.Height(chartRows), asciigraph.Precision(2), asciigraph.Caption(caption))
}

// spread lays the windows over the chart's columns; of several windows in one column
// the mean is drawn, and a wide window fills all of its columns.
func spread(answer client.Windows, values client.Numbers) []float64 {
	length := float64(answer.To.Sub(answer.From))
	place := func(i int) (from, to int) {
		if n := len(answer.Places); n > 0 { // folded: all of them are spread over the whole range
			return i * chartColumns / n, max(i*chartColumns/n+1, (i+1)*chartColumns/n)
		}
		from = int(float64(answer.Starts[i].Sub(answer.From)) / length * chartColumns)
		to = int(math.Ceil(float64(answer.Ends[i].Sub(answer.From)) / length * chartColumns))
		return min(from, chartColumns-1), min(max(to, from+1), chartColumns)
	}
	sums, counts := make([]float64, chartColumns), make([]float64, chartColumns)
	for i := range answer.Starts {
		if math.IsNaN(values[i]) {
			continue
		}
		from, to := place(i)
		for at := from; at < to; at++ {
			sums[at] += values[i]
			counts[at]++
		}
	}
	for i := range sums {
		sums[i] /= counts[i] // NaN where nothing is
	}
	return sums
}
