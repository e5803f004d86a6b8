// Package thin decides which readings of a series are kept for good: fewer than arrive, within a
// stated error.
package thin

import (
	"math"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// Tally counts kept and dropped readings.
type Tally struct {
	Arrived, Kept uint64
	Worst         float64 // greatest distance of one that went from what the kept ones say of its time
}

// Plus is both together.
func (t Tally) Plus(o Tally) Tally {
	return Tally{t.Arrived + o.Arrived, t.Kept + o.Kept, max(t.Worst, o.Worst)}
}

// Thin returns the readings of a series that stay by its rule. Only those with from <= time < until may go; the
// others stay, and serve to see what lies around. Nor does any go of the windows of the narrowest
// tier on both sides of a gap, in which no reading spoke for the series: late ones may fill the
// gap, and the summaries of these windows must then be made again from all their readings.
func Thin(rows column.Block, from, until int64, def *series.Definition) (column.Block, Tally) {
	r := def.Thinning
	times, values := rows.Times, rows.Cols[0]
	first, end := rows.Search(from), rows.Search(until)
	if r.Method == 0 || first == end {
		return rows, Tally{}
	}
	stay := fixed(times, first, end, def)
	t := &thinning{Thinning: r, times: times, values: values, stay: stay, circle: def.Kind == series.Bearing}
	if r.Method == series.SwingingDoor {
		t.door(max(0, first-1), end)
	} else {
		t.hold(max(0, first-1), end)
	}
	tally := Tally{Arrived: uint64(end - first), Worst: t.worst(max(0, first-1), end)}
	out := column.New(1, rows.Len())
	for i, at := range times {
		if i < first || i >= end || stay[i] {
			out.Add(at, values[i])
		}
		if i >= first && i < end && stay[i] {
			tally.Kept++
		}
	}
	return out, tally
}

// fixed marks what must stay, whatever its value.
func fixed(times []int64, first, end int, def *series.Definition) []bool {
	stay := make([]bool, len(times))
	tier := def.Tiers.Narrowest()
	whole := func(i int) { // its window, and the one before, which may speak for the window's start
		start := tier.Start(times[i])
		k := i
		for ; k >= 0 && times[k] >= start; k-- {
			stay[k] = true
		}
		if k >= 0 {
			stay[k] = true
		}
		for k = i; k < len(times) && times[k] < start+int64(tier); k++ {
			stay[k] = true
		}
	}
	if first == 0 {
		whole(0) // nobody knows what was before
	}
	for i := max(1, first); i <= min(end, len(times)-1); i++ {
		if times[i]-times[i-1] > int64(def.FreshFor) {
			whole(i - 1)
			whole(i)
		}
	}
	stay[end-1] = true // what comes next goes by it
	return stay
}

type thinning struct {
	series.Thinning
	times  []int64
	values []float64
	stay   []bool
	circle bool
}

func (t *thinning) distance(a, b float64) float64 {
	d := math.Abs(a - b)
	if t.circle {
		d = math.Mod(d, 360)
		d = min(d, 360-d)
	}
	return d
}

// late reports whether without reading i there would be too long a silence after the one kept.
func (t *thinning) late(kept, i int) bool {
	return i+1 < len(t.times) && t.times[i+1]-t.times[kept] > int64(t.Silence)
}

// hold keeps what is further from the last one kept than is allowed. Reading kept stays.
func (t *thinning) hold(kept, end int) {
	t.stay[kept] = true
	for i := kept + 1; i < end; i++ {
		band := max(t.Within, t.Relative*math.Abs(t.values[kept]))
		if t.stay[i] || !(t.distance(t.values[i], t.values[kept]) <= band) || t.late(kept, i) {
			t.stay[i], kept = true, i
		}
	}
}

// door keeps the ends of straight lines that pass all readings between them within the allowed
// error. The slopes that do are a wedge, which each reading narrows; the first reading that the
// wedge does not reach ends the line at the one before, which it did reach.
func (t *thinning) door(kept, end int) {
	t.stay[kept] = true
	low, high := math.Inf(-1), math.Inf(1)
	for i := kept + 1; i < end; i++ {
		if slope := t.slope(kept, i, 0); !(slope >= low && slope <= high) {
			kept = i - 1
			t.stay[kept] = true
			low, high = math.Inf(-1), math.Inf(1)
		}
		if t.stay[i] || t.late(kept, i) {
			t.stay[i], kept = true, i
			low, high = math.Inf(-1), math.Inf(1)
			continue
		}
		low, high = max(low, t.slope(kept, i, -t.Within)), min(high, t.slope(kept, i, t.Within))
	}
}

func (t *thinning) slope(from, to int, off float64) float64 {
	return (t.values[to] + off - t.values[from]) / float64(t.times[to]-t.times[from])
}

// worst returns how far those that go are from what the kept ones say: the last value, or the straight
// line to the next.
func (t *thinning) worst(first, end int) (out float64) {
	kept := first
	for i := first + 1; i < end; i++ {
		if !t.stay[i] {
			continue
		}
		for k := kept + 1; k < i; k++ {
			says := t.values[kept]
			if t.Method == series.SwingingDoor {
				share := float64(t.times[k]-t.times[kept]) / float64(t.times[i]-t.times[kept])
				says += share * (t.values[i] - t.values[kept])
			}
			out = max(out, t.distance(t.values[k], says))
		}
		kept = i
	}
	return out
}
