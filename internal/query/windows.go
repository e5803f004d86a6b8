package query

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/core/unit"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store"
)

// Windows asks for windows of all series a selector names, or of calculations over some.
type Windows struct {
	Select series.Selector
	Range  window.Range
	Now    time.Time // readings hold until then at most; the zero time is no limit
	Grid   window.Grid
	Fit    bool // a width that gives a few hundred windows, whatever Grid says
	Stats  []window.Stat
	Gaps   window.Gaps
	Unit   string      // convert to; "" leaves values as they are
	Shift  window.Step // the same windows so much earlier, side by side; zero: no
	Across *Across     // one row of all series, or of each group of them

	Inputs       []Input // instead of Select
	Calculations []Calculation
}

// Source is where a query is answered from.
type Source struct {
	Store  Reader
	Tiers  []rollup.Tier // that are kept, from the narrowest to the widest
	Limits config.Queries
}

// Reader is what a query needs of a store.
type Reader interface {
	// List is every series that the selector names, by path.
	List(series.Selector) []store.Series
	// Scan brings a series' rows to the sink, in order of time.
	Scan(context.Context, uint32, store.Wanted, store.Sink) error
	// LastBefore is the last reading before t that the rows of a tier tell of.
	LastBefore(id uint32, tier rollup.Tier, t int64) (at int64, value float64, ok bool, err error)
	// Sketches are those of a series with from <= start < to, in order, at most so many.
	Sketches(series uint32, from, to int64, most int) ([]store.Sketch, error)
}

// planned is one set of windows, with a plan for series whose readings are here, and one
// for those of which only summaries are.
type planned struct{ readings, summaries *window.Plan }

func (p planned) of(s store.Series) *window.Plan {
	if s.Collected {
		return p.readings
	}
	return p.summaries
}

func (p planned) any() *window.Plan {
	if p.readings != nil {
		return p.readings
	}
	return p.summaries
}

// Head is what is known of an answer before its rows.
type Head struct {
	From, To time.Time
	Windows  []window.Window
	Width    window.Step // zero: the whole range is one window
	Stats    []window.Stat
}

// SeriesRows are the rows of one series, group or calculation.
type SeriesRows struct {
	Name    string // path, group or calculation
	Kind    series.Kind
	Unit    string
	Labels  series.Labels
	Tier    rollup.Tier // the widest that rows were read from; finer ones stand in where it is not made yet
	Shift   window.Step // so much earlier than the windows say
	Members int         // series a group was made of
	Stats   []string    // names of Rows.Stats

	// Of each window, whether more may still come into it, because its time is not over or
	// what came last is not summarised, or not here yet.
	Open []bool

	// Of the stats that are times, by window: nanoseconds since 1970, 0 where there is
	// none. nil of other stats.
	Times      [][]int64
	WholeTimes []int64
	window.Rows
}

// Sink takes an answer piece by piece; an error ends the query.
type Sink interface {
	Head(Head) error
	Series(SeriesRows) error
}

// Refusal is a query that cannot be answered, and what to change.
type Refusal struct {
	Code    string
	Message string
}

func (r *Refusal) Error() string { return r.Message }

func refuse(code, format string, args ...any) error {
	return &Refusal{Code: code, Message: fmt.Sprintf(format, args...)}
}

// Run answers the query. An error before Head is called is a refusal of the whole; one
// after it leaves the answer incomplete.
func (q Windows) Run(ctx context.Context, src Source, sink Sink) error {
	ctx, cancel := context.WithTimeout(ctx, src.Limits.MaxTime)
	defer cancel()
	err := q.run(ctx, src, sink)
	if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return refuse("too_slow", "the answer took longer than %s, the most this service allows: ask for a shorter range, a width that is a multiple of 1m, or fewer series", span.Format(src.Limits.MaxTime))
	}
	return err
}

func (q Windows) run(ctx context.Context, src Source, sink Sink) error {
	if err := q.Range.Check(); err != nil {
		return refuse("range", "%v", err)
	}
	if q.Fit {
		q.Grid.Width = q.Range.Fitting()
	}
	found, err := q.series(src)
	if err != nil {
		return err
	}
	if err := q.check(found, src); err != nil {
		return err
	}
	plans, err := q.plans(src, found)
	if err != nil {
		return err
	}
	head := headOf(plans[0].any().Windows)
	head.Width, head.Stats = q.Grid.Width, q.Stats
	r := runner{Windows: q, src: src, plans: plans, sink: sink}
	switch {
	case len(q.Calculations) > 0:
		return r.calculate(ctx, head, found)
	case q.Across != nil:
		return r.across(ctx, head, found)
	}
	return r.each(ctx, head, found)
}

func headOf(windows []window.Window) Head {
	last := windows[0].To
	for _, w := range windows {
		last = max(last, w.To)
	}
	return Head{From: time.Unix(0, windows[0].From).UTC(), To: time.Unix(0, last).UTC(), Windows: windows}
}

// series are those the query is about, in order.
func (q Windows) series(src Source) ([]store.Series, error) {
	if len(q.Inputs) > 0 {
		return q.inputs(src)
	}
	return Find(src.Store, q.Select)
}

// check refuses what no plan can help.
func (q Windows) check(found []store.Series, src Source) error {
	if len(found) > src.Limits.MaxSeries {
		return refuse("too_large", "%s names %d series; at most %d are answered at once: name fewer", q.Select, len(found), src.Limits.MaxSeries)
	}
	if len(q.Inputs) > 0 {
		return nil // checked as they were found
	}
	for _, s := range q.Stats {
		if s.OfOneKind() && !anyOf(found, s) { // others have no number for such series, and tell so
			return refuse("stats", "stat %s is for series of kind %s; %s is a %s", s, s.Kinds(), found[0].Path, found[0].Kind)
		}
	}
	for _, s := range found {
		if !s.Sketch && slices.ContainsFunc(q.Stats, window.Stat.IsEstimate) {
			return refuse("stats", "of %s no sketches are kept, which p95~ comes from; its gateway makes them where its configuration says sketch: true", s.Path)
		}
	}
	if q.Unit != "" {
		for _, s := range found {
			if _, err := unit.Convert(s.Unit, q.Unit); err != nil {
				return refuse("unit", "%s: %v", s.Path, err)
			}
		}
	}
	return nil
}

func anyOf(found []store.Series, stat window.Stat) bool {
	for _, s := range found {
		if stat.For(s.Kind) {
			return true
		}
	}
	return false
}

// plans are that of the windows and, with a shift, that of the shifted ones.
func (q Windows) plans(src Source, found []store.Series) ([]planned, error) {
	count := len(found)
	each := max(1, src.Limits.MaxRows/max(1, count))
	windows, err := q.Grid.Cut(q.Range, each)
	var many *window.TooMany
	if errors.As(err, &many) {
		return nil, q.tooLarge(many.Windows, count, src)
	}
	if err != nil {
		return nil, refuse("range", "%v", err)
	}
	shifted := [][]window.Window{windows}
	if !q.Shift.IsZero() {
		earlier, err := q.Grid.Shifted(windows, q.Shift)
		if err != nil {
			return nil, refuse("range", "%v", err)
		}
		shifted = append(shifted, earlier)
	}
	if len(shifted)*len(windows)*count > src.Limits.MaxRows {
		return nil, q.tooLarge(len(windows), len(shifted)*count, src)
	}
	exact := false
	for _, s := range q.allStats() {
		exact = exact || s.IsPercentile()
	}
	var out []planned
	for _, w := range shifted {
		var p planned
		for _, collected := range []bool{true, false} {
			if !slices.ContainsFunc(found, func(s store.Series) bool { return s.Collected == collected }) {
				continue
			}
			plan, err := q.plan(src, w, count, collected, exact)
			if err != nil {
				return nil, err
			}
			if collected {
				p.readings = plan
			} else {
				p.summaries = plan
			}
		}
		out = append(out, p)
	}
	return out, nil
}

func (q Windows) plan(src Source, windows []window.Window, count int, readings, exact bool) (*window.Plan, error) {
	plan, err := window.NewPlan(windows, src.Tiers, readings, exact)
	if err != nil {
		return nil, refuse("range", "%v", q.narrow(src, err))
	}
	if slices.ContainsFunc(q.allStats(), window.Stat.IsEstimate) && !plan.MultipleOf(quarter) {
		return nil, refuse("range", "sketches, which p95~ comes from, are of quarters of an hour; use widths and times that are multiples of 15m")
	}
	if most := 20 * src.Limits.MaxRows; plan.Merges()*count > most {
		return nil, refuse("too_large", "%d overlapping windows are put together from %d parts, at most %d are possible: use a wider stride or a narrower width", len(windows), plan.Merges()*count, most)
	}
	return plan, nil
}

// narrow says what would work in place of a width that no tier fills.
func (q Windows) narrow(src Source, err error) error {
	finest := src.Tiers[0].Width()
	width := q.Grid.Width.Fixed
	if width%finest == 0 {
		return err
	}
	return fmt.Errorf("width %s cannot be answered exactly: only summaries of %s are kept here; use a multiple of it, such as %s, or ask the gateway, which has the readings",
		q.Grid.Width, span.Format(finest), span.Format(max(finest, width/finest*finest)))
}

func (q Windows) tooLarge(windows, count int, src Source) error {
	return refuse("too_large", "%d windows of %d series are %d rows; at most %d rows and %d series are answered at once: ask for a shorter range, a wider width than %s, or fewer series",
		windows, count, windows*count, src.Limits.MaxRows, src.Limits.MaxSeries, q.Grid.Width)
}

func (q Windows) allStats() []window.Stat {
	all := q.Stats
	for _, in := range q.Inputs {
		all = append(all[:len(all):len(all)], in.Stat)
	}
	return all
}

// runner has what the ways to answer have in common.
type runner struct {
	Windows
	src   Source
	plans []planned
	sink  Sink
}

// each hands out the rows of one series after the other.
func (r runner) each(ctx context.Context, head Head, found []store.Series) error {
	if err := r.sink.Head(head); err != nil {
		return err
	}
	for _, s := range found {
		for i, plan := range r.plans {
			rows, err := r.reduce(ctx, s, plan.of(s), r.Stats)
			if err != nil {
				return err
			}
			if i > 0 {
				rows.Shift = r.Shift
			}
			if err := r.sink.Series(rows); err != nil {
				return err
			}
		}
	}
	return nil
}

// reduce is the rows of one series, in the unit that was asked for.
func (r runner) reduce(ctx context.Context, s store.Series, plan *window.Plan, stats []window.Stat) (SeriesRows, error) {
	out := SeriesRows{Name: string(s.Path), Kind: s.Kind, Unit: s.Unit, Labels: s.Labels, Tier: plan.Tier}
	reducer := window.NewReducer(plan, &s.Definition, stats, r.Gaps)
	if !r.Now.IsZero() {
		reducer.Now(r.Now.UnixNano())
	}
	if err := feed(ctx, r.src, s, plan, stats, reducer); err != nil {
		return out, err
	}
	out.Rows = reducer.Finish()
	out.Open = r.open(s, plan.Windows)
	out.Times, out.WholeTimes = make([][]int64, len(stats)), make([]int64, len(stats))
	for i, stat := range stats {
		out.Stats = append(out.Stats, stat.String())
		if stat.IsTime() {
			out.Times[i] = absolute(out.Rows.Stats[i], plan.Windows)
			out.WholeTimes[i] = absolute(out.Whole[i:i+1], plan.Windows[:1])[0]
		}
	}
	if r.Unit != "" && r.Unit != s.Unit {
		if err := convert(&out, stats, r.Unit); err != nil {
			return out, err
		}
	}
	return out, nil
}

// How long after a window's end its readings or, without these, its summary may still be
// on their way. Late readings and links that are down are another matter.
const (
	readingsWithin  = 2 * time.Second
	summariesWithin = 15 * time.Second
)

func (r runner) open(s store.Series, windows []window.Window) []bool {
	out := make([]bool, len(windows))
	if r.Now.IsZero() {
		return out
	}
	settled := r.Now.Add(-summariesWithin)
	if s.Collected {
		settled = r.Now.Add(-readingsWithin)
	}
	for i, w := range windows {
		out[i] = w.To > settled.UnixNano()
	}
	return out
}

// absolute makes times of what is counted from the windows' starts.
func absolute(since []float64, windows []window.Window) []int64 {
	out := make([]int64, len(since))
	for i, v := range since {
		if v == v { // not NaN
			out[i] = windows[i].From + int64(v)
		}
	}
	return out
}

// Find is the series a selector names, at least one.
func Find(st Reader, selector series.Selector) ([]store.Series, error) {
	found := st.List(selector)
	if len(found) > 0 {
		return found, nil
	}
	if near := nearest(st, selector); near != "" {
		return nil, refuse("unknown_series", "no series matches %q; near it are %s", selector, near)
	}
	return nil, refuse("unknown_series", "no series matches %q; there are no series here yet", selector)
}
