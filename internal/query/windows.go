package query

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// Windows asks for windows of all series a selector names, or of calculations over some.
type Windows struct {
	Select []series.Selector
	Range  window.Range
	Now    time.Time // readings hold until then at most; the zero time is no limit
	Grid   window.Grid
	Fit    bool // a width that gives a few hundred windows, whatever Grid says
	Stats  []window.Stat
	Gaps   window.Gaps
	Units  Units
	Shift  window.Step // the same windows so much earlier, side by side; zero: no
	Across *Across     // one row of all series, or of each group of them
	By     Grouping    // of the series across, or of the inputs
	Rank   *Rank       // only some series, by how they compare
	Then   []Again     // of each stat, once more over its windows

	Inputs       []Input // instead of Select
	Calculations []Calculation

	Explain bool // say what was read
}

// Source is where a query is answered from.
type Source struct {
	Store  Reader
	Limits config.Queries
	// Fetched, if given, has readings that were asked for besides.
	Fetched Fetched
	// Beside, if given, runs something on a processor that is free, and reports whether one is.
	Beside func(do func()) bool
}

// Reader is the part of a store that queries use.
type Reader interface {
	// List is every series that the selector names, by path.
	List(series.Selector) []engine.Series
	// Scan brings a series' rows to the sink, in order of time.
	Scan(context.Context, uint32, engine.Wanted, engine.Sink) error
	// Prefetch reads what Scans of many series that want the same will need.
	Prefetch(context.Context, []uint32, engine.Wanted) (*engine.Prefetch, error)
	// LastBefore is the last reading before t that the rows of a tier tell of.
	LastBefore(ctx context.Context, id uint32, tier series.Tier, t int64) (at int64, value float64, ok bool, err error)
	// Sketches returns the sketches of a series with from <= start < to, in order, at most so many.
	Sketches(ctx context.Context, series uint32, from, to int64, most int) ([]engine.Sketch, error)
}

// Head describes an answer before its rows.
type Head struct {
	From, To time.Time
	Windows  []window.Window
	Width    window.Step // zero: the whole range is one window
	Stats    []window.Stat
	LeftOut  []string // what the query names and no answer is given for, and why
}

// SeriesRows are the rows of one series, group or calculation.
type SeriesRows struct {
	Name      string // path, group or calculation
	Kind      series.Kind
	Unit      string
	Labels    series.Labels
	States    series.StateNames
	Tier      series.Tier     // the widest that rows were read from; finer ones stand in where it is not made yet
	Shift     window.Step     // so much earlier than the windows say
	Starts    []window.Window // of a shift, where the windows are
	Members   int             // series a group was made of
	Silent    []string        // those of them without any reading in the range
	Rank      int             // from 1; 0: no ranking
	Stats     []string        // names of Rows.Stats
	StatUnits []string        // of each
	Again     []AgainRow      // stats of stats
	Why       []Reason        // why there are no numbers although there are readings
	Explained *Explained

	// Of each window, whether more may still come into it, because its time is not over or
	// what came last is not summarised, or not here yet.
	Open []bool

	window.Rows
	turn float64 // of bearings, a full circle in the unit
}

// Reason says why a stat has no number in some windows, although there are readings.
type Reason struct {
	Stat    string
	Windows int // of them; 0: only of all taken as one
	Text    string
}

// Sink takes an answer piece by piece; an error ends the query.
type Sink interface {
	Head(Head) error
	Series(SeriesRows) error
}

// RefusedError is a query that cannot be answered, and what to change.
type RefusedError struct {
	Code    string
	Message string
}

func (r *RefusedError) Error() string { return r.Message }

func refuse(code, format string, args ...any) error {
	return &RefusedError{Code: code, Message: fmt.Sprintf(format, args...)}
}

// Run answers the query. An error before Head is called is a refusal of the whole; one
// after it leaves the answer incomplete.
func (q Windows) Run(ctx context.Context, src Source, sink Sink) error {
	ctx, cancel := context.WithTimeout(ctx, src.Limits.MaxTime)
	defer cancel()
	return tooSlow(ctx, src, q.run(ctx, src, sink))
}

// tooSlow says in words that the time was over.
func tooSlow(ctx context.Context, src Source, err error) error {
	if err != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return refuse("too_slow",
			"the answer took longer than %s, the most this service allows: ask for a shorter range, a width that is a multiple of 1m, or fewer series",
			span.Format(src.Limits.MaxTime))
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
	if src.Fetched != nil {
		src = src.covering(q.reach())
	}
	if len(q.Inputs) > 0 {
		return q.runCalculations(ctx, src, sink)
	}
	found, err := findAll(src.Store, q.Select)
	if err != nil {
		return err
	}
	if q.Stats == nil {
		q.Stats = window.Usual(kindsOf(found))
	}
	if err := q.checkSeries(found, src); err != nil {
		return err
	}
	plans, err := q.plans(src, found, q.Stats)
	if err != nil {
		return err
	}
	r := runner{Windows: q, src: src, plans: plans, sink: sink}
	return r.ranked(func(r runner) error {
		if q.Across != nil {
			return r.across(ctx, r.head(), found)
		}
		return r.each(ctx, r.head(), found)
	})
}

func (q Windows) runCalculations(ctx context.Context, src Source, sink Sink) error {
	places, leftOut, err := q.places(src)
	if err != nil {
		return err
	}
	if err := q.Units.check(nil, q.Calculations); err != nil {
		return err
	}
	var found []engine.Series
	for _, p := range places {
		found = append(found, p.inputs...)
	}
	if len(found) > src.Limits.MaxSeries {
		return refuse("too_large", "the inputs are %d series; at most %d are answered at once: name fewer", len(found),
			src.Limits.MaxSeries)
	}
	var stats []window.Stat
	for _, in := range q.Inputs {
		stats = append(stats, in.Stat)
	}
	plans, err := q.plans(src, found, stats)
	if err != nil {
		return err
	}
	r := runner{Windows: q, src: src, plans: plans, sink: sink}
	return r.ranked(func(r runner) error {
		head := r.head()
		head.LeftOut = leftOut
		return r.calculate(ctx, head, places)
	})
}

// ranked has a query answered, by way of a ranking if that was asked for.
func (r runner) ranked(answer func(runner) error) error {
	if r.Rank == nil {
		return answer(r)
	}
	best, err := newRanked(r.Windows, r.sink)
	if err != nil {
		return err
	}
	r.sink = best
	if err := answer(r); err != nil {
		return err
	}
	return best.end()
}

func kindsOf(found []engine.Series) (out []series.Kind) {
	for _, s := range found {
		if !slices.Contains(out, s.Kind) {
			out = append(out, s.Kind)
		}
	}
	return out
}

func (r runner) head() Head {
	out := headOf(r.plans[0].narrowest().Windows)
	out.Width, out.Stats = r.Grid.Width, r.Stats
	return out
}

func headOf(windows []window.Window) Head {
	last := windows[0].To
	for _, w := range windows {
		last = max(last, w.To)
	}
	return Head{From: time.Unix(0, windows[0].From).UTC(), To: time.Unix(0, last).UTC(), Windows: windows}
}

// checkSeries refuses what no plan can help.
func (q Windows) checkSeries(found []engine.Series, src Source) error {
	if len(found) > src.Limits.MaxSeries {
		return refuse("too_large", "%s names %d series; at most %d are answered at once: name fewer",
			together(q.Select), len(found), src.Limits.MaxSeries)
	}
	for _, s := range q.Stats {
		if !anyOf(found, s) { // others have no number for such series, and tell so
			return refuse("stats", "stat %s is for series of kind %s; %s is a %s", s, s.Kinds(), found[0].Path,
				found[0].Kind)
		}
	}
	if err := q.Units.check(q.Stats, nil); err != nil {
		return err
	}
	for _, s := range found {
		if !s.Sketch && slices.ContainsFunc(q.Stats, window.Stat.IsEstimate) {
			return refuse("stats",
				"of %s no sketches are kept, which p95~ comes from; its gateway makes them where its configuration says sketch: true",
				s.Path)
		}
		if !q.Gaps.For(s.Kind) {
			return refuse("gaps", "%s is a state, and between two states there is none to join them; use carry", s.Path)
		}
		if _, err := q.Units.convert(s.Unit, q.Stats); err != nil {
			return refuse("unit", "%s: %v", s.Path, err)
		}
	}
	return nil
}

func anyOf(found []engine.Series, stat window.Stat) bool {
	for _, s := range found {
		if stat.For(s.Kind) {
			return true
		}
	}
	return false
}

// runner has what the ways to answer have in common.
type runner struct {
	Windows
	src   Source
	plans []planned
	sink  Sink
	ahead *lookahead
	over  *window.Reducer // of the rows that went before and are done with; nil: they are kept
}

// each hands out the rows of one series after the other.
func (r runner) each(ctx context.Context, head Head, found []engine.Series) error {
	if err := r.sink.Head(head); err != nil {
		return err
	}
	r.ahead = newLookahead(ctx, r.src, r.Stats, func(yield func(engine.Series, *window.Plan) bool) {
		for _, s := range found {
			for _, plan := range r.plans {
				if !yield(s, plan.of(s)) {
					return
				}
			}
		}
	})
	defer r.ahead.close()
	for _, s := range found {
		for i, plan := range r.plans {
			if err := r.ahead.step(); err != nil {
				return err
			}
			rows, err := r.reduce(ctx, s, plan.of(s), r.Stats)
			if err != nil {
				return err
			}
			if i > 0 {
				rows.Shift, rows.Starts = r.Shift, plan.of(s).Windows
			}
			if err := r.sink.Series(r.finish(rows)); err != nil {
				return err
			}
		}
	}
	return nil
}

// finish adds what is computed of a whole row.
func (r runner) finish(rows SeriesRows) SeriesRows {
	rows.Again = again(rows, r.Then)
	return rows
}

// reduce returns the rows of one series, in the units that were asked for.
func (r runner) reduce(ctx context.Context, s engine.Series, plan *window.Plan, stats []window.Stat) (SeriesRows, error) {
	out := SeriesRows{Name: string(s.Path), Kind: s.Kind, Labels: s.Labels, States: s.States, Tier: plan.Tier}
	into, err := r.Units.convert(s.Unit, stats)
	if err != nil {
		return out, refuse("unit", "%s: %v", s.Path, err)
	}
	out.Unit, out.StatUnits = into.unit, into.units
	reducer := window.NewReducer(plan, &s.Definition, stats, window.Options{Gaps: r.Gaps, Units: into.by, Over: r.over})
	if !r.Now.IsZero() {
		reducer.Now(r.Now.UnixNano())
	}
	work := engine.ScanStats{}
	if err := feed(ctx, r.src, s, plan, stats, r.ahead.of(&s, plan), reducer, &work); err != nil {
		return out, err
	}
	out.Rows = reducer.Finish()
	out.Open = r.open(s, plan.Windows)
	for i, stat := range stats {
		out.Stats = append(out.Stats, stat.String())
		if s.Kind == series.Bearing && stat.IsValue() {
			out.turn = 360 * into.by[i].Scale
		}
	}
	out.Why = why(out, stats)
	if r.Explain {
		out.Explained = explain(&s, plan, stats, work)
	}
	return out, nil
}

// How long after a window's end its readings or, without these, its summary may still be
// on their way. Late readings and links that are down are another matter.
const (
	readingsWithin  = 2 * time.Second
	summariesWithin = 15 * time.Second
)

func (r runner) open(s engine.Series, windows []window.Window) []bool {
	out := make([]bool, len(windows))
	if r.Now.IsZero() {
		return out
	}
	settled := r.Now.Add(-summariesWithin)
	if s.Collected {
		settled = r.Now.Add(-readingsWithin)
	}
	for i, w := range windows {
		_, late := s.Late.Within(w.From, w.To)
		out[i] = late || w.To > settled.UnixNano()
	}
	return out
}

// findAll returns the series that some selectors name: those of the first, then what the next names besides.
// Each has to name one, lest a mistyped name goes unnoticed among others.
func findAll(st Reader, selectors []series.Selector) (out []engine.Series, err error) {
	seen := map[uint32]bool{}
	for _, selector := range selectors {
		found, err := Find(st, selector)
		if err != nil {
			return nil, err
		}
		if len(selectors) == 1 {
			return found, nil
		}
		for _, s := range found {
			if !seen[s.ID] {
				seen[s.ID] = true
				out = append(out, s)
			}
		}
	}
	return out, nil
}

// together writes selectors as one text.
func together(selectors []series.Selector) string {
	out := make([]string, len(selectors))
	for i, s := range selectors {
		out[i] = s.String()
	}
	return strings.Join(out, ", ")
}

// Find returns the series a selector names, at least one.
func Find(st Reader, selector series.Selector) ([]engine.Series, error) {
	found := st.List(selector)
	if len(found) > 0 {
		return found, nil
	}
	if near := nearest(st, selector); near != "" {
		return nil, refuse("unknown_series", "no series matches %q; near it are %s", selector, near)
	}
	return nil, refuse("unknown_series", "no series matches %q; there are no series here yet", selector)
}
