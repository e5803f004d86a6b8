package window

import (
	"math"
	"slices"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
	"nexocumula/internal/core/unit"
)

// Rows are a query's answer for one series, by column: for each stat a number for
// each of the plan's windows, NaN where there is none.
type Rows struct {
	Stats  [][]float64
	Times  [][]int64 // of stats that are times: nanoseconds since 1970, 0 where there is none; nil of others
	Empty  []bool    // nothing is known of the window, and nothing was put there
	Filled []bool    // there was no data, and gaps says what stands there

	// Of stats that summaries tell only bounds of: the least and the most it may be; nil of
	// others. Where the two are the same, it is what Stats says too.
	Least, Most [][]float64

	// Of stats that may have no number although there are readings: where that is so; nil of others.
	Unknown      [][]bool
	WholeUnknown []bool

	Whole      []float64 // the stats of all windows taken as one
	WholeTimes []int64
	WholeLeast []float64
	WholeMost  []float64
	Coverage   float64 // share of all windows' time

	Counts     []float64 // readings of each window
	WholeCount float64

	noReading []bool
	of        []Stat
	units     []unit.Conversion // of each stat
}

// known is a reading, if there is one.
type known struct {
	at    int64
	value float64
	yes   bool
}

// Options of a Reducer.
type Options struct {
	Gaps  Gaps
	Units []unit.Conversion // of each stat; nil: as they are stored
	Over  *Reducer          // one whose rows are not needed any more: its memory serves again; nil: none
}

// Reducer takes the rows of one series in, in order of time, and reduces them to a row
// per window.
type Reducer struct {
	plan  *Plan
	def   *series.Definition
	stats []Stat
	of    []formula // of each stat; nil of those that come from elsewhere than a summary
	kinds []*statKind
	gaps  Gaps

	join    rollup.Joiner
	tracks  []*track // of the conditions among the stats
	trackOf []int    // of each stat; -1 without
	segment int      // the one being reduced
	out     Rows
	before  []known // of each window, the last reading before it; only when values are carried

	// Only where windows are put together from segments, of each of these.
	sums     []rollup.Summary
	sure     [][]spells // of each track
	may      [][]spells
	starting []known // the last reading before it

	readings [][]float64 // of each segment, for percentiles
	sketches []*sketch.Sketch
	whole    gathered
	one      gathered // the window being completed; kept, so that none is allocated for each
}

// gathered holds the rows of a window, or of all of them.
type gathered struct {
	sum       rollup.Summary
	sure, may []spells // of each track
	sorted    []float64
}

// NewReducer begins the rows of a series.
func NewReducer(plan *Plan, def *series.Definition, stats []Stat, options Options) *Reducer {
	r := options.Over
	if r == nil {
		r = new(Reducer)
	}
	*r = Reducer{
		plan: plan, def: def, stats: stats, gaps: options.Gaps, join: rollup.NewJoiner(def, Need(stats, def.Kind)),
		of: r.of[:0], kinds: r.kinds[:0], trackOf: r.trackOf[:0], out: r.out,
	}
	if len(r.out.Empty) != len(plan.Windows) || !slices.Equal(r.out.of, stats) {
		r.out = newRows(len(plan.Windows), stats)
	}
	clear(r.out.Filled) // the rest is written for each window
	if r.out.units = options.Units; r.out.units == nil {
		r.out.units = slices.Repeat([]unit.Conversion{stored}, len(stats))
	}
	var seen map[condition]int
	for i, s := range stats {
		r.of, r.kinds = append(r.of, s.formula(def.Kind)), append(r.kinds, s.kind())
		r.trackOf = append(r.trackOf, -1)
		if !s.IsCondition() || !s.For(def.Kind) {
			continue
		}
		c := s.condition(r.out.units[i])
		if _, ok := seen[c]; !ok {
			if seen == nil {
				seen = map[condition]int{}
			}
			seen[c] = len(r.tracks)
			r.tracks = append(r.tracks, &track{condition: c, fresh: int64(def.FreshFor), now: math.MaxInt64})
		}
		r.trackOf[i] = seen[c]
	}
	if r.gaps.Mode == Carry {
		r.before = make([]known, len(plan.Windows))
	}
	r.whole.sure, r.whole.may = make([]spells, len(r.tracks)), make([]spells, len(r.tracks))
	if plan.parts != nil {
		r.sums = make([]rollup.Summary, 0, len(plan.bounds)-1)
		r.sure, r.may = make([][]spells, len(r.tracks)), make([][]spells, len(r.tracks))
	}
	if slices.ContainsFunc(stats, Stat.IsPercentile) {
		r.readings = make([][]float64, len(plan.bounds)-1)
	}
	r.begin(plan.From())
	return r
}

// stored is the conversion of what stays as it is.
var stored = unit.Conversion{Scale: 1}

func newRows(n int, stats []Stat) Rows {
	of := func(wanted func(Stat) bool, more int) [][]float64 {
		out := make([][]float64, len(stats))
		for i, s := range stats {
			if wanted(s) {
				out[i] = make([]float64, more)
			}
		}
		return out
	}
	out := Rows{
		Stats: of(func(Stat) bool { return true }, n), Times: make([][]int64, len(stats)),
		Least: of(Stat.bounded, n), Most: of(Stat.bounded, n),
		Empty: make([]bool, n), Filled: make([]bool, n), Counts: make([]float64, n), noReading: make([]bool, n), of: stats,
		Whole: make([]float64, len(stats)), WholeTimes: make([]int64, len(stats)), WholeLeast: make([]float64,
			len(stats)), WholeMost: make([]float64, len(stats)),
	}
	out.Unknown, out.WholeUnknown = make([][]bool, len(stats)), make([]bool, len(stats))
	for i, s := range stats {
		if s.IsTime() {
			out.Times[i] = make([]int64, n)
		}
		if s.WhyUnknown() != "" {
			out.Unknown[i] = make([]bool, n)
		}
	}
	return out
}

func (r *Rows) convert(stat int, v float64) float64 {
	return v*r.units[stat].Scale + r.units[stat].Offset
}

// Before says which reading was the last before the range.
func (r *Reducer) Before(at int64, value float64) {
	r.join.Before(at, value)
	for _, t := range r.tracks {
		t.before(at, value)
	}
	r.begin(r.plan.From())
}

// Now says which time it is: nothing holds in the future.
func (r *Reducer) Now(t int64) {
	r.join.Now(t)
	for _, one := range r.tracks {
		one.now = t
	}
}

// begin starts the segment that begins at an edge.
func (r *Reducer) begin(edge int64) {
	r.join.Begin(edge)
	for _, t := range r.tracks {
		t.begin(edge)
	}
	if r.gaps.Mode != Carry {
		return
	}
	at, value, yes := r.join.Latest()
	switch {
	case r.plan.parts != nil:
		r.starting = append(r.starting[:r.segment], known{at, value, yes})
	case r.segment < len(r.before):
		r.before[r.segment] = known{at, value, yes}
	}
}

// to goes on to the segment that t lies in.
func (r *Reducer) to(t int64) {
	for r.segment+1 < len(r.plan.bounds)-1 && r.plan.bounds[r.segment+1] <= t {
		r.end()
	}
}

// end completes a segment. Where that is a window, its stats are computed at once, so that
// nothing else of it needs to be kept.
func (r *Reducer) end() {
	edge := r.plan.bounds[r.segment+1]
	one := &r.one
	one.sum, one.sure, one.may = r.join.End(edge), one.sure[:0], one.may[:0]
	for k, t := range r.tracks {
		sure, may := t.end(edge)
		if r.plan.parts != nil {
			r.sure[k], r.may[k] = append(r.sure[k], sure), append(r.may[k], may)
			continue
		}
		one.sure, one.may = append(one.sure, sure), append(one.may, may)
		r.whole.sure[k].then(sure, true)
		r.whole.may[k].then(may, true)
	}
	if r.plan.parts != nil {
		r.sums = append(r.sums, one.sum)
	} else {
		if r.readings != nil {
			one.sorted = r.readings[r.segment]
			slices.Sort(one.sorted)
		}
		r.row(r.segment, one)
		r.whole.sum.Absorb(&one.sum)
	}
	r.segment++
	r.begin(edge)
}

// Rows takes in readings (width 0), or summaries of windows width long.
func (r *Reducer) Rows(b column.Block, width int64) error {
	for i := 0; i < b.Len(); {
		r.to(b.Times[i])
		k := searchFrom(b.Times, i, r.plan.bounds[r.segment+1])
		if width == 0 {
			r.join.Readings(b, i, k)
			for _, t := range r.tracks {
				t.readings(b, i, k)
			}
			if r.readings != nil {
				r.readings[r.segment] = append(r.readings[r.segment], b.Cols[0][i:k]...)
			}
		} else {
			r.join.Summaries(b, i, k, width)
			for _, t := range r.tracks {
				t.summaries(b, i, k, width)
			}
		}
		i = k
	}
	return nil
}

// searchFrom returns the first place behind i whose time is t or later. Near ones are found
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
	for _, t := range r.tracks {
		t.summary(from, to, &s)
	}
	return nil
}

// Finish returns the rows, once everything has been taken in.
func (r *Reducer) Finish() Rows {
	for r.segment < len(r.plan.bounds)-1 {
		r.end()
	}
	if r.plan.parts != nil {
		for i := range r.plan.Windows {
			one := r.gather(r.plan.parts[i])
			r.row(i, &one)
			if r.before != nil && len(r.plan.parts[i]) > 0 {
				r.before[i] = r.starting[r.plan.parts[i][0]]
			}
		}
		r.whole = r.gather(runs(r.counting()))
	} else if r.readings != nil {
		r.whole.sorted = slices.Concat(r.readings...)
		slices.Sort(r.whole.sorted)
	}
	out := &r.out
	var length time.Duration
	for i, yes := range r.counting() {
		if yes {
			length += time.Duration(r.plan.bounds[i+1] - r.plan.bounds[i])
		}
	}
	for k := range r.stats {
		out.Whole[k], out.WholeTimes[k] = r.stat(k, -1, &r.whole, length)
		out.WholeLeast[k], out.WholeMost[k] = r.bounds(k, &r.whole)
		out.WholeUnknown[k] = out.Unknown[k] != nil && r.unknown(k, out.Whole[k], &r.whole.sum)
	}
	out.WholeCount = r.whole.sum.Count
	out.Coverage = float64(r.whole.sum.Covered) / float64(length)
	out.fill(r.plan.Windows, r.gaps, r.stats, r.def.Kind, r.before)
	return *out
}

// Sketch takes in that of a window of series.Quarter, which no edge may lie inside of.
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

// estimate returns a percentile from the sketches of the segments of window i, or of all when
// i is negative; NaN unless they hold all of its readings.
func (r *Reducer) estimate(p float64, i int, readings float64) float64 {
	all := sketch.New()
	var of []int
	switch {
	case i < 0:
		of = runs(r.counting())
	case r.plan.parts == nil:
		of = []int{i, i + 1}
	default:
		of = r.plan.parts[i]
	}
	for k := 0; k < len(of); k += 2 {
		for segment := of[k]; segment < of[k+1] && segment < len(r.sketches); segment++ {
			if r.sketches[segment] != nil && all.Merge(r.sketches[segment]) != nil {
				readings = math.NaN()
			}
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

// row computes what is asked for of window i.
func (r *Reducer) row(i int, of *gathered) {
	length := r.plan.Windows[i].Length()
	out := &r.out
	out.Counts[i], out.noReading[i] = of.sum.Count, of.sum.Count == 0
	out.Empty[i] = of.sum.Count == 0 && of.sum.Covered == 0
	for k := range r.stats {
		v, at := r.stat(k, i, of, length)
		out.Stats[k][i] = v
		if out.Times[k] != nil {
			out.Times[k][i] = at
		}
		if out.Unknown[k] != nil {
			out.Unknown[k][i] = r.unknown(k, v, &of.sum)
		}
		if out.Least[k] != nil {
			out.Least[k][i], out.Most[k][i] = r.bounds(k, of)
		}
	}
}

// stat returns one stat, in the unit asked for, of window i, or of all of them when i is
// negative.
func (r *Reducer) stat(k, i int, of *gathered, length time.Duration) (v float64, at int64) {
	s, sum := r.stats[k], &of.sum
	switch {
	case r.of[k] != nil:
		v = r.of[k](sum, length)
	case r.trackOf[k] >= 0:
		sure, may := &of.sure[r.trackOf[k]], &of.may[r.trackOf[k]]
		if r.kinds[k].measure == aTime {
			return math.NaN(), s.spellTime(sure)
		}
		if v = s.ofSpells(sure, sum.Covered); v != s.ofSpells(may, sum.Covered) {
			v = math.NaN() // it lies between bounds
		}
		return v, 0
	case r.kinds[k].measure == aTime:
		if sum.Count > 0 {
			at = s.timeOf(sum)
		}
		return math.NaN(), at
	case s.IsEstimate():
		v = r.estimate(s.Value, i, sum.Count)
	default:
		v = Quantile(of.sorted, s.Value)
	}
	if r.def.Kind == series.Bearing && s.IsValue() {
		v = series.Turn(v)
	}
	if c := r.out.units[k]; c != stored && r.kinds[k].measure <= aProduct {
		v = s.Convert(v, c.Scale, c.Offset, sum.Count)
	}
	return v, 0
}

// unknown reports whether a stat has no number for another reason than that there is nothing to tell.
func (r *Reducer) unknown(k int, v float64, sum *rollup.Summary) bool {
	s := r.stats[k]
	if !math.IsNaN(v) || !s.For(r.def.Kind) {
		return false
	}
	if s.IsPercentile() || s.IsEstimate() {
		return sum.Count > 0
	}
	return sum.Covered > 0
}

func (r *Reducer) bounds(k int, of *gathered) (least, most float64) {
	if r.trackOf[k] < 0 || !r.stats[k].bounded() {
		return math.NaN(), math.NaN()
	}
	s, t := r.stats[k], r.trackOf[k]
	return s.ofSpells(&of.sure[t], of.sum.Covered), s.ofSpells(&of.may[t], of.sum.Covered)
}
