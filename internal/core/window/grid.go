package window

import (
	"fmt"
	"slices"
	"time"
)

// Grid says how a range is cut into windows.
type Grid struct {
	Zone    *time.Location // of calendar steps, hours and days; nil is UTC
	Width   Step           // zero: the whole range is one window
	Stride  Step           // from one window's start to the next; zero: Width
	Origin  time.Time      // a window begins here; zero: 1970 by the zone's clocks, weeks on a Monday, fixed widths in UTC
	ByClock bool           // steps of hours and less are the clock's too, and no fixed lengths of time
	Clipped bool           // the first and the last window end with the range; else they may reach beyond it
	Hours   []Hours        // only these of each day
	Days    Days           // only these of each week; with hours over midnight, the day they begin on
	Except  Dates          // but not on these
	Fold    Fold           // windows of the same place in a day, a week or a year are one
	Newest  int            // only so many, the last ones; 0: all
}

// Span is from <= time < to, nanoseconds since 1970.
type Span struct{ From, To int64 }

// Window is one of a grid's windows: all of its span, or where only certain hours or
// days count, the pieces of it, in order.
type Window struct {
	Span
	Pieces []Span // nil: all of it; empty: none of it, as of an hour that was not there
	Place  string // of a folded window: in the day, the week or the year
}

// Start returns when that begins of the window which counts.
func (w *Window) Start() int64 {
	if len(w.Pieces) > 0 {
		return w.Pieces[0].From
	}
	return w.From
}

// Length of what counts.
func (w *Window) Length() time.Duration {
	if w.Pieces == nil {
		return time.Duration(w.To - w.From)
	}
	var sum int64
	for _, p := range w.Pieces {
		sum += p.To - p.From
	}
	return time.Duration(sum)
}

// TooMany is a range that makes more windows, or pieces of them, than are allowed.
type TooMany struct {
	Windows, Most int
	Stride        Step
	Pieces        bool
}

func (e *TooMany) Error() string {
	if e.Pieces {
		return fmt.Sprintf("the windows have about %d pieces of days that count; at most %d are possible: ask for a shorter range, a narrower width or a larger stride",
			e.Windows, e.Most)
	}
	return fmt.Sprintf("the range has about %d windows, one every %s; at most %d are answered: ask for a shorter range or a larger width and stride",
		e.Windows, e.Stride, e.Most)
}

// morePieces is how many pieces windows may have on top of one each.
const morePieces = 50_000

// Cut returns the windows of a range: one from each point of the grid on, the last one at or
// before the range's start being the first. Windows of no length, as a day that a zone
// left out of its calendar, are none.
func (g Grid) Cut(r Range, most int) ([]Window, error) {
	if g.Zone == nil {
		g.Zone = time.UTC
	}
	if err := g.check(r); err != nil {
		return nil, err
	}
	g.ByClock = g.ByClock || g.Fold != ""
	if g.Width.IsZero() || g.Clipped {
		if !r.Exact {
			r = r.widened(time.Minute)
		}
	}
	out := []Window{{Span: Span{r.From.UnixNano(), r.To.UnixNano()}}}
	if !g.Width.IsZero() {
		var err error
		if out, err = g.steps(r, most); err != nil {
			return nil, err
		}
	}
	if g.Hours != nil || g.Days != 0 || g.Except != nil {
		about := len(out) * (int(g.Width.About()/wholeDay) + 2) * max(1, len(g.Hours))
		if g.Width.IsZero() {
			about = int(r.To.Sub(r.From)/wholeDay+2) * max(1, len(g.Hours))
		}
		if about > most+morePieces {
			return nil, &TooMany{Windows: about, Most: most + morePieces, Stride: g.Stride, Pieces: true}
		}
		out = g.pieces(out)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("none of the range lies in the hours and days that count")
	}
	if g.Fold != "" {
		return g.fold(out)
	}
	if g.Newest > 0 && len(out) > g.Newest {
		out = out[len(out)-g.Newest:]
	}
	return out, nil
}

// check refuses what makes no sense together.
func (g Grid) check(r Range) error {
	if !g.Origin.IsZero() && (g.Origin.Before(Earliest) || g.Origin.After(Latest)) {
		return fmt.Errorf("origin %s is not within the years %d to %d", g.Origin.Format(time.RFC3339), Earliest.Year(),
			Latest.Year())
	}
	if g.Width.IsZero() {
		for name, given := range map[string]bool{
			"stride": !g.Stride.IsZero(),
			"origin": !g.Origin.IsZero(),
			"newest": g.Newest > 0,
		} {
			if given {
				return fmt.Errorf("%s says nothing of the whole range as one window; leave it out, or give a width such as 1h",
					name)
			}
		}
	}
	if err := g.Fold.check(g); err != nil {
		return err
	}
	return withinReach(r.To, g.Width)
}

func (g Grid) steps(r Range, most int) ([]Window, error) {
	stride := g.Stride
	if stride.IsZero() {
		stride = g.Width
	}
	if about := int(r.To.Sub(r.From) / stride.About()); about > most {
		return nil, &TooMany{Windows: about, Most: most, Stride: stride}
	}
	edges := g.edges(stride)
	n := edges.index(r.From)
	if edges.plain {
		return g.clip(fixed(edges.at(n).UnixNano(), r.To.UnixNano(), int64(stride.Fixed), int64(g.Width.Fixed)), r), nil
	}
	out := make([]Window, 0, r.To.Sub(r.From)/stride.About()+2)
	for start := edges.at(n); start.Before(r.To); n++ {
		if edges.evenUntil(n, r.To) { // the rest is by the clocks what it is by time
			return g.clip(append(out,
				fixed(start.UnixNano(), r.To.UnixNano(), int64(stride.Fixed), int64(g.Width.Fixed))...),
				r), nil
		}
		end := edges.end(n)
		if end.After(start) {
			out = append(out, Window{Span: Span{start.UnixNano(), end.UnixNano()}})
		}
		if start = end; g.Width != stride {
			start = edges.at(n + 1)
		}
	}
	return g.clip(out, r), nil
}

// clip ends the windows where the range does, if that was asked for.
func (g Grid) clip(windows []Window, r Range) []Window {
	if !g.Clipped {
		return windows
	}
	out := windows[:0]
	for _, w := range windows {
		w.From, w.To = max(w.From, r.From.UnixNano()), min(w.To, r.To.UnixNano())
		if w.From < w.To {
			out = append(out, w)
		}
	}
	return out
}

// edges are where windows begin, counted from an origin, and where they end.
type edges struct {
	zone          *time.Location
	origin        time.Time
	shown         time.Time // what the clocks show then
	width, stride Step
	byClock       bool
	plain         bool // all lengths are fixed

	// Readings of safe[0] <= reading < safe[1] are so far from any change of the clocks that
	// they stand for one time, offset earlier.
	safe   [2]time.Time
	offset time.Duration
}

// when returns as the function, and fast between changes of the clocks.
func (e *edges) when(reading time.Time) time.Time {
	if !reading.Before(e.safe[0]) && reading.Before(e.safe[1]) {
		return reading.Add(-e.offset).In(e.zone)
	}
	at := when(reading, e.zone)
	start, end := at.ZoneBounds()
	_, seconds := at.Zone()
	e.offset = time.Duration(seconds) * time.Second
	const away = 26 * time.Hour // more than any two offsets lie apart
	if start.IsZero() {
		start = Earliest.AddDate(-100, 0, 0)
	}
	if end.IsZero() {
		end = Latest.AddDate(100, 0, 0)
	}
	e.safe = [2]time.Time{start.UTC().Add(e.offset + away), end.UTC().Add(e.offset - away)}
	return at
}

// evenUntil reports whether the clocks go on evenly from window n on until to and a window
// longer, so that fixed lengths are the same by the clocks and by time.
func (e *edges) evenUntil(n int, to time.Time) bool {
	if e.stride.Fixed == 0 || e.width != e.stride || e.stride.Fixed > wholeDay {
		return false
	}
	from, until := e.stride.after(e.shown, n), reading(to.In(e.zone)).Add(e.stride.Fixed)
	return !from.Before(e.safe[0]) && from.Before(e.safe[1]) && until.Before(e.safe[1])
}

func (g Grid) edges(stride Step) *edges {
	origin := g.origin(stride)
	return &edges{
		zone: g.Zone, origin: origin, shown: reading(origin), width: g.Width, stride: stride, byClock: g.ByClock,
		plain: stride.Fixed > 0 && g.Width.Fixed > 0 && !g.ByClock,
	}
}

// at returns where window n begins.
func (e *edges) at(n int) time.Time {
	if e.stride.Fixed > 0 && !e.byClock {
		return e.origin.Add(time.Duration(n) * e.stride.Fixed)
	}
	return e.when(e.stride.after(e.shown, n))
}

// end returns where window n ends. It is counted on from what the clock ought to show at its
// start, lest a start that the clocks left out lead to another day's window.
func (e *edges) end(n int) time.Time {
	switch {
	case e.width == e.stride:
		return e.at(n + 1)
	case e.width.Fixed > 0 && !e.byClock:
		return e.at(n).Add(e.width.Fixed)
	case e.stride.Fixed > 0 && !e.byClock:
		return e.when(e.width.after(reading(e.at(n)), 1))
	}
	return e.when(e.width.after(e.stride.after(e.shown, n), 1))
}

// index returns the last n whose window begins at t or before it.
func (e *edges) index(t time.Time) int {
	if e.stride.Fixed > 0 && !e.byClock {
		length := t.Sub(e.origin)
		n := int(length / e.stride.Fixed)
		if length%e.stride.Fixed < 0 {
			n--
		}
		return n
	}
	n := int(reading(t.In(e.zone)).Sub(e.shown) / e.stride.About())
	for e.at(n).After(t) {
		n--
	}
	for !e.at(n + 1).After(t) {
		n++
	}
	return n
}

// withinReach refuses windows that go on for so long that times have no room for it.
func withinReach(t time.Time, width Step) error {
	if years := width.About().Hours() / 24 / 365; years > 200 || t.Add(width.About()).After(Latest) {
		return fmt.Errorf("a window of %s reaches beyond the year %d; use a narrower width", width, Latest.Year())
	}
	return nil
}

// fixed returns the windows of a fixed width and stride, from the first begin on.
func fixed(first, to, stride, width int64) []Window {
	out := make([]Window, 0, (to-first)/stride+1)
	for start := first; start < to; start += stride {
		out = append(out, Window{Span: Span{start, start + width}})
	}
	return out
}

// origin returns where the grid is counted from. Windows of whole days begin where hours
// over midnight do, so that a night is not cut in two.
func (g Grid) origin(stride Step) time.Time {
	if !g.Origin.IsZero() {
		return g.Origin.In(g.Zone)
	}
	if stride.Fixed > 0 && !g.ByClock {
		return time.Unix(0, 0).In(g.Zone)
	}
	var since time.Duration
	if n := len(g.Hours); n > 0 && g.Hours[n-1].overMidnight() && stride.Fixed == 0 {
		since = g.Hours[n-1].From
	}
	day := 1
	if stride.Days%7 == 0 && stride.Days > 0 {
		day = 5 // the first Monday
	}
	return when(midnight(1970, 1, day).Add(since), g.Zone)
}

// pieces cuts the windows to the hours and days that count.
func (g Grid) pieces(windows []Window) []Window {
	if len(windows) == 0 {
		return nil
	}
	first, last := windows[0].From, windows[0].To
	for _, w := range windows {
		last = max(last, w.To)
	}
	counting := g.counting(first, last)
	var out []Window
	for _, w := range windows {
		i, _ := slices.BinarySearchFunc(counting, w.From+1, func(s Span, t int64) int { // the first that ends after the window's start
			if s.To < t {
				return -1
			}
			return 1
		})
		for ; i < len(counting) && counting[i].From < w.To; i++ {
			w.Pieces = append(w.Pieces, Span{max(w.From, counting[i].From), min(w.To, counting[i].To)})
		}
		if len(w.Pieces) > 0 {
			out = append(out, w)
		}
	}
	return out
}

// counting returns the hours and days that count, of the days around from and to, each
// apart from the next.
func (g Grid) counting(from, to int64) []Span {
	hours := g.Hours
	if hours == nil {
		hours = []Hours{{0, wholeDay}}
	}
	year, month, day := time.Unix(0, from).In(g.Zone).Date()
	var out []Span
	for d := midnight(year, month, day-1); ; d = d.AddDate(0, 0, 1) { // the day before may reach over midnight
		if when(d, g.Zone).UnixNano() >= to {
			return out
		}
		if !g.Days.has(d.Weekday()) || g.Except[d] {
			continue
		}
		for _, h := range hours {
			a, b := when(d.Add(h.From), g.Zone).UnixNano(), when(d.Add(h.end()), g.Zone).UnixNano()
			switch n := len(out); {
			case a >= b || a >= to:
			case n > 0 && out[n-1].To >= a:
				out[n-1].To = max(out[n-1].To, b)
			default:
				out = append(out, Span{a, b})
			}
		}
	}
}
