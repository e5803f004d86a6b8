package window

import (
	"fmt"
	"slices"
	"time"
)

// Grid says how a range is cut into windows.
type Grid struct {
	Zone   *time.Location // of calendar steps, hours and days; nil is UTC
	Width  Step           // zero: the whole range is one window
	Stride Step           // from one window's start to the next; zero: Width
	Origin time.Time      // a window begins here; zero: 1970 by the zone's clocks, weeks on a Monday, fixed widths in UTC
	Hours  *Hours         // only these of each day
	Days   Days           // only these of each week; with hours over midnight, the day they begin on
	Newest int            // only so many, the last ones; 0: all
}

// Span is from <= time < to, nanoseconds since 1970.
type Span struct{ From, To int64 }

// Window is one of a grid's windows: all of its span, or where only certain hours or
// days count, the pieces of it, in order.
type Window struct {
	Span
	Pieces []Span // nil: all of it
}

// spans are the pieces, or the window itself.
func (w *Window) spans() []Span {
	if w.Pieces == nil {
		return []Span{w.Span}
	}
	return w.Pieces
}

// Length of what counts.
func (w *Window) Length() time.Duration {
	if w.Pieces == nil {
		return time.Duration(w.To - w.From)
	}
	var sum int64
	for _, p := range w.spans() {
		sum += p.To - p.From
	}
	return time.Duration(sum)
}

// TooMany is a range that makes more windows than are allowed.
type TooMany struct {
	Windows, Most int
	Stride        Step
}

func (e *TooMany) Error() string {
	return fmt.Sprintf("the range has about %d windows, one every %s; at most %d are answered: ask for a shorter range or a larger width and stride", e.Windows, e.Stride, e.Most)
}

// Cut is the windows of a range: one from each point of the grid on, the last one at or
// before the range's start being the first.
func (g Grid) Cut(r Range, most int) ([]Window, error) {
	if g.Zone == nil {
		g.Zone = time.UTC
	}
	if !g.Origin.IsZero() && (g.Origin.Before(Earliest) || g.Origin.After(Latest)) {
		return nil, fmt.Errorf("origin %s is not within the years %d to %d", g.Origin.Format(time.RFC3339), Earliest.Year(), Latest.Year())
	}
	if err := withinReach(r.To, g.Width); err != nil {
		return nil, err
	}
	var out []Window
	if g.Width.IsZero() {
		if !g.Stride.IsZero() {
			return nil, fmt.Errorf("a stride without a width says nothing; give a width as well, such as 1h")
		}
		if !r.Exact {
			r = r.widened(time.Minute)
		}
		out = []Window{{Span: Span{r.From.UnixNano(), r.To.UnixNano()}}}
	} else {
		var err error
		if out, err = g.steps(r, most); err != nil {
			return nil, err
		}
	}
	if g.Hours != nil || g.Days != 0 {
		if out = g.pieces(out); len(out) == 0 {
			return nil, fmt.Errorf("none of the range lies in the hours and days that count")
		}
	}
	if g.Newest > 0 && len(out) > g.Newest {
		out = out[len(out)-g.Newest:]
	}
	return out, nil
}

func (g Grid) steps(r Range, most int) ([]Window, error) {
	stride := g.Stride
	if stride.IsZero() {
		stride = g.Width
	}
	if about := int(r.To.Sub(r.From) / stride.About()); about > most {
		return nil, &TooMany{about, most, stride}
	}
	origin := g.origin(stride)
	n := stride.Index(origin, r.From)
	if stride.Fixed > 0 && g.Width.Fixed > 0 {
		return fixed(stride.From(origin, n).UnixNano(), r.To.UnixNano(), int64(stride.Fixed), int64(g.Width.Fixed)), nil
	}
	var out []Window
	for ; ; n++ {
		start := stride.From(origin, n)
		if !start.Before(r.To) {
			return out, nil
		}
		end := g.Width.From(start, 1)
		if g.Width == stride {
			end = stride.From(origin, n+1)
		}
		out = append(out, Window{Span: Span{start.UnixNano(), end.UnixNano()}})
	}
}

// withinReach refuses windows that go on for so long that times have no room for it.
func withinReach(t time.Time, width Step) error {
	if years := width.About().Hours() / 24 / 365; years > 200 || t.Add(width.About()).After(Latest) {
		return fmt.Errorf("a window of %s reaches beyond the year %d; use a narrower width", width, Latest.Year())
	}
	return nil
}

// fixed is the windows of a fixed width and stride, from the first begin on.
func fixed(first, to, stride, width int64) []Window {
	out := make([]Window, 0, (to-first)/stride+1)
	for start := first; start < to; start += stride {
		out = append(out, Window{Span: Span{start, start + width}})
	}
	return out
}

// origin is where the grid is counted from. Windows of whole days begin where hours
// over midnight do, so that a night is not cut in two.
func (g Grid) origin(stride Step) time.Time {
	if !g.Origin.IsZero() {
		return g.Origin.In(g.Zone)
	}
	if stride.Fixed > 0 {
		return time.Unix(0, 0).In(g.Zone)
	}
	var since time.Duration
	if g.Hours != nil && g.Hours.overMidnight() {
		since = g.Hours.From
	}
	day := 1
	if stride.Days%7 == 0 && stride.Days > 0 {
		day = 5 // the first Monday
	}
	return clock(1970, 1, day, since, g.Zone)
}

// pieces cuts the windows to the hours and days that count.
func (g Grid) pieces(windows []Window) []Window {
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

// counting are the hours and days that count, of the days around from and to, each
// apart from the next.
func (g Grid) counting(from, to int64) []Span {
	hours := Hours{0, 24 * time.Hour}
	if g.Hours != nil {
		hours = *g.Hours
	}
	until := hours.To
	if hours.overMidnight() {
		until += 24 * time.Hour
	}
	year, month, day := time.Unix(0, from).In(g.Zone).Date()
	var out []Span
	for d := day - 1; ; d++ { // the day before may reach over midnight
		a, b := clock(year, month, d, hours.From, g.Zone).UnixNano(), clock(year, month, d, until, g.Zone).UnixNano()
		if a >= to {
			return out
		}
		weekday := time.Date(year, month, d, 0, 0, 0, 0, time.UTC).Weekday()
		switch n := len(out); {
		case !g.Days.has(weekday) || a >= b:
		case n > 0 && out[n-1].To >= a:
			out[n-1].To = max(out[n-1].To, b)
		default:
			out = append(out, Span{a, b})
		}
	}
}

// Shifted are the same windows a step earlier, by the clocks of the grid's zone.
func (g Grid) Shifted(windows []Window, by Step) ([]Window, error) {
	zone := g.Zone
	if zone == nil {
		zone = time.UTC
	}
	if first := time.Unix(0, windows[0].From).In(zone); by.From(first, -1).Before(Earliest) {
		return nil, fmt.Errorf("windows %s earlier than %s begin before the year %d", by, first.Format(time.RFC3339), Earliest.Year())
	}
	earlier := func(s Span) Span {
		back := func(t int64) int64 {
			at := time.Unix(0, t).In(zone)
			if by.Fixed > 0 {
				return by.From(at, -1).UnixNano()
			}
			return by.From(at, -1).UnixNano() + int64(at.Nanosecond())
		}
		moved := Span{back(s.From), back(s.To)}
		if moved.To <= moved.From { // its clock times were not there on that day
			moved.To = moved.From + (s.To - s.From)
		}
		return moved
	}
	out := make([]Window, len(windows))
	for i, w := range windows {
		out[i].Span = earlier(w.Span)
		for _, p := range w.Pieces {
			out[i].Pieces = append(out[i].Pieces, earlier(p))
		}
	}
	return out, nil
}
