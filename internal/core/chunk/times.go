package chunk

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"slices"
)

// appendTimes writes strictly ascending times as the smaller of the two forms.
func appendTimes(out []byte, times []int64) []byte {
	exponent, unit := unitOf(times)
	steps := make([]int64, len(times)-1) // from one time to the next, in units
	for i := range steps {
		steps[i] = int64(uint64(times[i+1]-times[i]) / uint64(unit))
	}
	head := func(form byte) []byte {
		return append(binary.AppendVarint([]byte{form}, times[0]), exponent)
	}
	differences := appendPacked(head(timesDifferences), steps)
	if g, ok := gridOf(steps); ok {
		form := byte(timesGrid)
		if g.steps == uint64(len(steps)) && g.atEveryPoint(steps) {
			form = timesEveryPoint
		}
		if grid := g.encode(head(form), steps, form); len(grid) < len(differences) {
			return append(out, grid...)
		}
	}
	return append(out, differences...)
}

// unitOf returns the largest power of ten that divides all differences.
func unitOf(times []int64) (exponent byte, unit int64) {
	unit = 1
	for exponent < 18 {
		next := unit * 10
		for i := 1; i < len(times); i++ {
			if uint64(times[i]-times[i-1])%uint64(next) != 0 {
				return exponent, unit
			}
		}
		if len(times) < 2 {
			return 0, 1
		}
		exponent, unit = exponent+1, next
	}
	return exponent, unit
}

// grid is steps+1 points, evenly spread over span units.
type grid struct{ span, steps uint64 }

// point returns where the k-th point is, in units after the first; k <= steps.
func (g grid) point(k uint64) int64 {
	high, low := bits.Mul64(k, g.span)
	quotient, _ := bits.Div64(high, low, g.steps) // k <= steps, so it fits
	return int64(quotient)
}

// gridOf guesses the grid of a polled series: the usual step from one row to the
// next, made exact by how many such steps the whole span has.
func gridOf(steps []int64) (grid, bool) {
	if len(steps) < 3 {
		return grid{}, false
	}
	sorted := slices.Clone(steps)
	slices.Sort(sorted)
	n := len(sorted)
	usual := float64(sorted[n/2])
	if float64(sorted[n-1-n/4]-sorted[n/4]) > usual/2 {
		return grid{}, false // not polled: there is no usual step
	}
	var g grid
	for _, s := range steps {
		if s <= 0 || g.span+uint64(s) > math.MaxInt64 { // a span of centuries
			return grid{}, false
		}
		g.span += uint64(s)
		g.steps += uint64(math.Max(1, math.Round(float64(s)/usual)))
	}
	return g, g.steps <= g.span
}

// atEveryPoint reports whether the k-th row is nearest to the k-th point.
func (g grid) atEveryPoint(steps []int64) bool {
	var at int64
	for i, s := range steps {
		at += s
		if g.nearest(at) != uint64(i+1) {
			return false
		}
	}
	return true
}

func (g grid) encode(out []byte, steps []int64, form byte) []byte {
	out = binary.AppendUvarint(out, g.span)
	out = binary.AppendUvarint(out, g.steps)
	points, distances := make([]int64, len(steps)), make([]int64, len(steps))
	var at int64 // units after the first time
	var k uint64
	for i, s := range steps {
		at += s
		next := g.nearest(at)
		points[i] = int64(next - k)
		k = next
		distances[i] = at - g.point(k)
	}
	if form == timesGrid {
		out = appendPacked(out, points)
	}
	return appendPacked(out, distances)
}

// nearest returns the point nearest to a place in units after the first; 0 <= at <= span.
func (g grid) nearest(at int64) uint64 {
	high, low := bits.Mul64(uint64(at), g.steps)
	low, carry := bits.Add64(low, g.span/2, 0)
	quotient, _ := bits.Div64(high+carry, low, g.span)
	return min(quotient, g.steps)
}

// times reads the times of all rows.
func (r *reader) times(rows int, into []int64) []int64 {
	form := r.take(1)
	first := r.varint()
	exponent := r.take(1)
	if r.err != nil {
		return nil
	}
	if exponent[0] > 18 {
		r.err = fmt.Errorf("times have the unit 10^%d ns", exponent[0])
		return nil
	}
	unit := int64(math.Pow10(int(exponent[0])))
	times := into
	if cap(into) < rows {
		times = make([]int64, rows)
	}
	times = times[:rows]
	times[0] = first
	switch form[0] {
	case timesDifferences:
		r.packed(times[1:])
		for i := 1; i < rows; i++ {
			times[i] = times[i-1] + times[i]*unit
		}
	case timesGrid, timesEveryPoint:
		r.gridTimes(times, unit, form[0])
	default:
		r.err = fmt.Errorf("unknown form %d of times", form[0])
	}
	return times
}

// gridTimes reads block after block; in times stand the points to go until they are
// overwritten.
func (r *reader) gridTimes(times []int64, unit int64, form byte) {
	g := grid{r.uvarint(), r.uvarint()}
	if r.err == nil && (g.steps == 0 || g.span > math.MaxInt64) {
		r.err = fmt.Errorf("the grid of the times has %d steps over %d units", g.steps, g.span)
	}
	if form == timesGrid {
		r.packed(times[1:])
	}
	if r.err != nil {
		return
	}
	w := walker{grid: g, whole: int64(g.span / g.steps), rest: g.span % g.steps}
	var block [blockRows]int64
	for at := 1; at < len(times); at += blockRows {
		distances := block[:min(blockRows, len(times)-at)]
		base, width, exceptions := r.blockHead()
		r.block(distances, base, width, exceptions)
		out := times[at : at+len(distances)]
		if r.err != nil {
			return
		}
		if form == timesEveryPoint && uint64(len(out)) <= g.steps-w.k {
			w.every(out, distances, times[0], unit)
			continue
		}
		for i, d := range distances {
			if form == timesEveryPoint || !w.forward(uint64(out[i])) {
				r.err = fmt.Errorf("row %d is beyond the %d points of the grid", at+i, g.steps)
				return
			}
			out[i] = times[0] + (w.at+d)*unit
		}
	}
}

// walker goes from point to point; a step to the next costs no division.
type walker struct {
	grid
	k     uint64
	at    int64  // point(k)
	over  uint64 // (k·span) mod steps
	whole int64  // span / steps
	rest  uint64 // span mod steps
}

// every goes a point a row. Hot: additions and one comparison a row.
func (w *walker) every(out, distances []int64, first, unit int64) {
	at, over, whole, rest, steps := w.at, w.over, w.whole, w.rest, w.steps
	for i, d := range distances {
		at += whole
		if over += rest; over >= steps {
			over -= steps
			at++
		}
		out[i] = first + (at+d)*unit
	}
	w.at, w.over, w.k = at, over, w.k+uint64(len(out))
}

func (w *walker) forward(points uint64) bool {
	if points > w.steps-w.k {
		return false
	}
	if points == 1 {
		var time [1]int64
		w.every(time[:], time[:], 0, 1)
		return true
	}
	w.k += points
	w.at = w.point(w.k)
	high, low := bits.Mul64(w.k, w.span)
	_, w.over = bits.Div64(high, low, w.steps)
	return true
}
