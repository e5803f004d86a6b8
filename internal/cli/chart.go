package cli

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/guptarohit/asciigraph"

	"nexocumula/client"
	"nexocumula/internal/core/unit"
)

const (
	chartColumns = 72
	chartRows    = 10
	mostLines    = 6 // on one axis
)

// charts draws an answer: the states as strips below one another, other series of the same
// unit on one axis, up to mostLines of them.
func charts(answer client.Windows) (out []string) {
	if len(answer.Starts) < 2 {
		return nil
	}
	strips := []client.SeriesWindows{}
	lines := map[string][]client.SeriesWindows{}
	var order []string
	for _, s := range answer.Series {
		if s.States != nil {
			strips = append(strips, s)
			continue
		}
		if drawnStat(answer, s) == "" {
			continue
		}
		axis := s.Unit + "\n" + drawnStat(answer, s)
		if len(lines[axis]) == 0 {
			order = append(order, axis)
		}
		lines[axis] = append(lines[axis], s)
	}
	for _, axis := range order {
		for same := range slices.Chunk(lines[axis], mostLines) {
			out = append(out, chart(answer, same))
		}
	}
	if len(strips) > 0 {
		out = append(out, stateStrips(answer, strips))
	}
	return out
}

// drawnStat returns the stat of a series that is drawn: the mean if it was asked for, else the
// first that has a number.
func drawnStat(answer client.Windows, s client.SeriesWindows) string {
	for _, one := range append([]string{"mean"}, answer.Stats...) {
		if slices.ContainsFunc(s.Values[one], func(v float64) bool { return !math.IsNaN(v) }) {
			return one
		}
	}
	return ""
}

// chart draws a stat of series on one axis; a window without data leaves a hole. Several are
// told apart by a digit each.
func chart(answer client.Windows, all []client.SeriesWindows) string {
	stat := drawnStat(answer, all[0])
	points := make([][]float64, len(all))
	digits := make([]asciigraph.CharSet, len(all))
	for i, s := range all {
		points[i] = spread(answer, s.Values[stat])
		digits[i] = asciigraph.CreateCharSet(fmt.Sprint(i + 1))
	}
	caption := fmt.Sprintf("%s of %s", stat, windowsText(answer))
	if all[0].Unit != "" {
		caption += ", " + unit.Written(all[0].Unit)
	}
	options := []asciigraph.Option{asciigraph.Height(chartRows), asciigraph.Precision(2)}
	if len(all) == 1 {
		return asciigraph.Plot(points[0], append(options, asciigraph.Caption(nameOf(all[0])+", "+caption))...)
	}
	text := asciigraph.PlotMany(points,
		append(options, asciigraph.Caption(caption), asciigraph.SeriesChars(digits...))...)
	for i, s := range all {
		text += fmt.Sprintf("\n  %d  %s", i+1, nameOf(s))
	}
	return text
}

func nameOf(s client.SeriesWindows) string {
	if s.Shift != "" {
		return s.Name + ", " + s.Shift + " earlier"
	}
	return s.Name
}

// windowsText says which windows are drawn.
func windowsText(answer client.Windows) string {
	if n := len(answer.Places); n > 0 {
		return fmt.Sprintf("%s windows, folded from %s to %s", answer.Width, answer.Places[0], answer.Places[n-1])
	}
	return fmt.Sprintf("%s windows, %s to %s", answer.Width, answer.From.Format("01-02 15:04Z"),
		answer.To.Format("01-02 15:04Z"))
}

// glyphs of states, the one of the lowest value first; more states than that share the last.
var glyphs = []rune("░█▓▒◆")

const (
	mixedGlyph   = '▚' // the window saw several states
	unknownGlyph = ' '
)

// stateStrips draws a strip for each series: what state each window was in.
func stateStrips(answer client.Windows, all []client.SeriesWindows) string {
	var out strings.Builder
	wide := 0
	for _, s := range all {
		wide = max(wide, utf8.RuneCountInString(nameOf(s)))
	}
	var legends []string
	for _, s := range all {
		names := slices.SortedFunc(maps.Keys(s.States),
			func(a, b string) int { return cmp.Compare(s.States[a], s.States[b]) })
		strip := []rune(strings.Repeat(string(unknownGlyph), chartColumns))
		legend := ""
		for i, name := range names {
			legend += fmt.Sprintf("%c %s  ", glyphs[min(i, len(glyphs)-1)], name)
		}
		for i := range answer.Starts {
			from, to := place(answer, i)
			for at := from; at < to; at++ {
				strip[at] = stateGlyph(s, i, names, strip[at])
			}
		}
		if !slices.Contains(legends, legend) {
			legends = append(legends, legend)
		}
		fmt.Fprintf(&out, "%*s ▕%s▏\n", wide, nameOf(s), string(strip))
	}
	for _, legend := range legends {
		fmt.Fprintf(&out, "%*s  %s%c several\n", wide, "", legend, mixedGlyph)
	}
	fmt.Fprintf(&out, "%*s  states in %s", wide, "", windowsText(answer))
	return out.String()
}

// stateGlyph returns the glyph of a window, in a column that may have one already.
func stateGlyph(s client.SeriesWindows, window int, names []string, before rune) rune {
	least, most := at(s.Values["min"], window), at(s.Values["max"], window)
	if math.IsNaN(least) {
		return before
	}
	glyph := mixedGlyph
	if least == most {
		i := slices.IndexFunc(names, func(name string) bool { return s.States[name] == least })
		if i < 0 {
			return '?' // a value without a name
		}
		glyph = glyphs[min(i, len(glyphs)-1)]
	}
	if before != unknownGlyph && before != glyph {
		return mixedGlyph
	}
	return glyph
}

func at(values client.Numbers, i int) float64 {
	if i >= len(values) {
		return math.NaN()
	}
	return values[i]
}

// place returns the columns of a window.
func place(answer client.Windows, i int) (from, to int) {
	if n := len(answer.Places); n > 0 { // folded: all of them are spread over the whole range
		return i * chartColumns / n, max(i*chartColumns/n+1, (i+1)*chartColumns/n)
	}
	length := float64(answer.To.Sub(answer.From))
	from = int(float64(answer.Starts[i].Sub(answer.From)) / length * chartColumns)
	to = int(math.Ceil(float64(answer.Ends[i].Sub(answer.From)) / length * chartColumns))
	return min(from, chartColumns-1), min(max(to, from+1), chartColumns)
}

// spread lays the windows over the chart's columns; of several windows in one column
// the mean is drawn, and a wide window fills all of its columns.
func spread(answer client.Windows, values client.Numbers) []float64 {
	sums, counts := make([]float64, chartColumns), make([]float64, chartColumns)
	for i := range answer.Starts {
		if math.IsNaN(values[i]) {
			continue
		}
		from, to := place(answer, i)
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
