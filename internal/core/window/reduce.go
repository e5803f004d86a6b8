package window

import (
	"math"
	"slices"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
)

// Rows are a query's answer for one series, by column: for each stat a number for
// each of the plan's windows, NaN where there is none.
type Rows struct {
	Stats  [][]float64
	Empty  []bool // nothing is known of the window, and nothing was put there
	Filled []bool // there was no data, and gaps says what stands there

	Whole    []float64 // the stats of all windows taken as one
	Coverage float64   // share of all windows' time

	Counts     []float64 // readings of each window
	WholeCount float64

	noReading []bool
	lasts     []known // of each window, its last reading
}

type known struct {
	at    int64
	value float64
}

// Reducer takes the rows of one series in, in order of time, and reduces them to a row
// per window.
type Reducer struct {
	plan  *Plan
	def   *series.Definition
	stats []Stat
	of    []formula // of each stat
	gaps  Gaps

	join     *rollup.Joiner
	before   *known
	segment  int // the one being reduced
	sums     []rollup.Summary
	readings [][]float64 // of each segment, for percentiles
	sketches []*sketch.Sketch
}

// NewReducer begins the rows of a series.
func NewReducer(plan *Plan, def *series.Definition, stats []Stat, gaps Gaps) *Reducer {
	r := &Reducer{plan: plan, def: def, stats: stats, gaps: gaps, join: rollup.NewJoiner(def, Need(stats, def.Kind))}
	for _, s := range stats {
		r.of = append(r.of, s.formula(def.Kind))
	}
	r.sums = make([]rollup.Summary, 0, len(plan.bounds)-1)
	if slices.ContainsFunc(stats, Stat.IsPercentile) {
		r.readings = make([][]float64, len(plan.bounds)-1)
	}
	r.join.Begin(plan.From())
	return r
}

// Before says which reading was the last before the range.
func (r *Reducer) Before(at int64, value float64) {
	r.before = &known{at, value}
	r.join.Before(at, value)
}

// Now says which time it is: nothing holds in the future.
func (r *Reducer) Now(t int64) { r.join.Now(t) }

// to goes on to the segment that t lies in.
func (r *Reducer) to(t int64) {
	for r.segment+1 < len(r.plan.bounds)-1 && r.plan.bounds[r.segment+1] <= t {
		r.end()
	}
}

func (r *Reducer) end() {
	r.segment++
	edge := r.plan.bounds[r.segment]
	r.sums = append(r.sums, r.join.End(edge))
	r.join.Begin(edge)
}

// Rows takes in readings (width 0), or summaries of windows width long.
func (r *Reducer) Rows(b column.Block, width int64) error {
	for i := 0; i < b.Len(); {
		r.to(b.Times[i])
		k := searchFrom(b.Times, i, r.plan.bounds[r.segment+1])
		if width == 0 {
			r.join.Readings(b, i, k)
			if r.readings != nil {
				r.readings[r.segment] = append(r.readings[r.segment], b.Cols[0][i:k]...)
			}
		} else {
			r.join.Summaries(b, i, k, width)
		}
		i = k
	}
	return nil
}

// searchFrom is the first place behind i whose time is t or later. Near ones are found
// first: segments are often short.
func searchFrom(times []int64, i int, t int64) int {
	step := 1
	for i+step < len(times) && times[i+step] < t {
		i, step = i+step, 2*step
	}
	end := min(len(times), i+step)
	at, _ := slices.BinarySearch(times[i+1:end], t)
	return i + 1 + at
}

// Whole takes in one summary of from <= time < to.
func (r *Reducer) Whole(from, to int64, s rollup.Summary) error {
	r.to(from)
	r.join.Add(from, to, s)
	return nil
}

// Finish is the rows, once everything has been taken in.
func (r *Reducer) Finish() Rows {
	for len(r.sums) < len(r.plan.bounds)-1 {
		r.end()
	}
	n := len(r.plan.Windows)
	out := Rows{Stats: make([][]float64, len(r.stats)), Empty: make([]bool, n), Filled: make([]bool, n), Counts: make([]float64, n), noReading: make([]bool, n), lasts: make([]known, n)}
	for i := range out.Stats {
		out.Stats[i] = make([]float64, n)
	}
	for i := range r.plan.Windows {
		sum, values := r.window(i)
		out.Counts[i], out.noReading[i] = sum.Count, sum.Count == 0
		out.Empty[i] = sum.Count == 0 && sum.Covered == 0
		out.lasts[i] = known{sum.LastAt, sum.Last}
		for k := range r.stats {
			out.Stats[k][i] = r.stat(k, i, sum, values, &r.plan.Windows[i])
		}
	}
	r.whole(&out)
	out.fill(r.plan.Windows, r.gaps, r.stats, r.def.Kind, r.before)
	return out
}

// Sketch takes in that of a window of rollup.Quarter, which no edge may lie inside of.
// They may come in any order, before or after the rows.
func (r *Reducer) Sketch(start int64, s *sketch.Sketch) error {
	if r.sketches == nil {
		r.sketches = make([]*sketch.Sketch, len(r.plan.bounds)-1)
	}
	i, found := slices.BinarySearch(r.plan.bounds, start)
	if !found {
		i--
	}
	if i < 0 || i >= len(r.sketches) {
		return nil
	}
	if r.sketches[i] == nil {
		r.sketches[i] = s
		return nil
	}
	return r.sketches[i].Merge(s)
}

// estimate is a percentile from the sketches of the segments of window i, or of all when
// i is negative; NaN unless they hold all of its readings.
func (r *Reducer) estimate(p float64, i int, readings float64) float64 {
	all := sketch.New()
	take := func(from, to int) {
		for segment := from; segment < to && segment < len(r.sketches); segment++ {
			if r.sketches[segment] != nil && all.Merge(r.sketches[segment]) != nil {
				readings = math.NaN()
			}
		}
	}
	switch {
	case i < 0:
		for segment, counts := range r.counting() {
			if counts {
				take(segment, segment+1)
			}
		}
	case r.plan.parts == nil:
		take(i, i+1)
	default:
		for k := 0; k < len(r.plan.parts[i]); k += 2 {
			take(r.plan.parts[i][k], r.plan.parts[i][k+1])
		}
	}
	if readings == 0 || all.Count() != readings {
		return math.NaN()
	}
	v, err := all.Percentile(p)
	if err != nil {
		return math.NaN()
	}
	return v
}

func (r *Reducer) stat(k, i int, sum *rollup.Summary, sorted []float64, w *Window) float64 {
	if s := r.stats[k]; s.IsEstimate() && s.For(r.def.Kind) {
		return r.estimate(s.Value, i, sum.Count)
	}
	if s := r.stats[k]; s.IsPercentile() && s.For(r.def.Kind) {
		return Quantile(sorted, s.Value)
	}
	return r.of[k](sum, w)
}

// window puts the segments of one window together.
func (r *Reducer) window(i int) (sum *rollup.Summary, sorted []float64) {
	if r.plan.parts == nil {
		if r.readings != nil {
			sorted = r.readings[i]
			slices.Sort(sorted)
		}
		return &r.sums[i], sorted
	}
	var all rollup.Summary
	part := r.plan.parts[i]
	for k := 0; k < len(part); k += 2 {
		for segment := part[k]; segment < part[k+1]; segment++ {
			all.Absorb(&r.sums[segment])
			if r.readings != nil {
				sorted = append(sorted, r.readings[segment]...)
			}
		}
	}
	slices.Sort(sorted)
	return &all, sorted
}

// whole is the stats of all that belongs to any window, each segment once.
func (r *Reducer) whole(out *Rows) {
	all := Window{Span: Span{r.plan.From(), r.plan.To()}}
	if r.plan.parts != nil {
		all.Pieces = []Span{}
	}
	var sum rollup.Summary
	var values []float64
	for i, yes := range r.counting() {
		if !yes {
			continue
		}
		if r.plan.parts != nil {
			all.Pieces = append(all.Pieces, Span{r.plan.bounds[i], r.plan.bounds[i+1]})
		}
		sum.Absorb(&r.sums[i])
		if r.readings != nil {
			values = append(values, r.readings[i]...)
		}
	}
	slices.Sort(values)
	for k := range r.stats {
		out.Whole = append(out.Whole, r.stat(k, -1, &sum, values, &all))
	}
	out.WholeCount = sum.Count
	out.Coverage = float64(sum.Covered) / float64(all.Length())
}

// counting says of each segment whether it belongs to any window, and not to a hole
// between them.
func (r *Reducer) counting() []bool {
	out := make([]bool, len(r.sums))
	for i := range out {
		out[i] = r.plan.parts == nil
	}
	for _, part := range r.plan.parts {
		for k := 0; k < len(part); k += 2 {
			for segment := part[k]; segment < part[k+1]; segment++ {
				out[segment] = true
			}
		}
	}
	return out
}
