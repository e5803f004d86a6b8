package query

import (
	"context"
	"fmt"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// Moment asks for the value of each series at a moment.
type Moment struct {
	Select series.Selector
	At     time.Time
	How    How
	Within time.Duration // how far away the reading may be; 0: any distance, but see mostAway
}

// How says which reading counts for a moment.
type How string

// The ways.
const (
	Exactly How = "at"      // one of that very time
	Before  How = "before"  // the last one at or before it
	Nearest How = "nearest" // the one least far away, of two equally far the earlier
)

// ParseHow reads at, before or nearest; the empty text is before.
func ParseHow(text string) (How, error) {
	switch how := How(text); how {
	case "":
		return Before, nil
	case Exactly, Before, Nearest:
		return how, nil
	}
	return "", fmt.Errorf("how %q: use before (the last at or before the time), at (of that very time) or nearest",
		text)
}

// mostAway bounds how far behind a moment a nearer reading is looked for.
const mostAway = 366 * 24 * time.Hour

// Found is the value of a series at a moment.
type Found struct {
	engine.Series
	Time  int64
	Value float64
	Tier  series.Tier // what it was read from

	// Sure is false where only summaries are kept and the moment lies inside a window:
	// there may have been a reading closer to it, which they do not tell of.
	Sure bool
}

// Run returns the values there are, by path, and the paths of series of which summaries do not
// tell whether there was a reading of that very time.
func (m Moment) Run(ctx context.Context, src Source) (found []Found, unknown []string, err error) {
	ctx, cancel := context.WithTimeout(ctx, src.Limits.MaxTime)
	defer cancel()
	found, unknown, err = m.run(ctx, src)
	return found, unknown, tooSlow(ctx, src, err)
}

func (m Moment) run(ctx context.Context, src Source) (out []Found, unknown []string, err error) {
	if m.At.Before(window.Earliest) || m.At.After(window.Latest) {
		return nil, nil, refuse("range", "%s is not within the years %d to %d", m.At.Format(time.RFC3339),
			window.Earliest.Year(), window.Latest.Year())
	}
	found, err := Find(src.Store, m.Select)
	if err != nil {
		return nil, nil, err
	}
	if len(found) > src.Limits.MaxSeries {
		return nil, nil, refuse("too_large", "%s names %d series; at most %d are answered at once: name fewer",
			m.Select, len(found), src.Limits.MaxSeries)
	}
	for _, s := range found {
		if err := ctx.Err(); err != nil {
			return nil, nil, err
		}
		one, ok, err := m.of(ctx, src, s)
		if err != nil {
			return nil, nil, err
		}
		distance := time.Duration(max(one.Time-m.At.UnixNano(), m.At.UnixNano()-one.Time))
		if ok && (m.Within == 0 || distance <= m.Within) {
			out = append(out, one)
		} else if m.How == Exactly && !one.Sure {
			unknown = append(unknown, string(s.Path))
		}
	}
	if len(out)+len(unknown) == 0 {
		return nil, nil, refuse("no_value", "no series of %s has a reading %s %s%s", m.Select, m.How,
			m.At.UTC().Format(time.RFC3339Nano), m.within())
	}
	return out, unknown, nil
}

func (m Moment) within() string {
	if m.Within == 0 {
		return ""
	}
	return ", within " + span.Format(m.Within)
}

// of returns the value of a series. Where readings were thinned its summaries tell more; where these are not
// kept any more, a reading that is may not be the one.
func (m Moment) of(ctx context.Context, src Source, s engine.Series) (Found, bool, error) {
	tier := s.Tiers.Narrowest()
	thinned := m.At.UnixNano() < s.ThinnedTo
	if s.Collected && !thinned {
		tier = series.Readings
	}
	out, ok, err := m.in(ctx, src, s, tier)
	if err == nil && !ok && s.Collected && thinned && m.How != Exactly {
		out, ok, err = m.in(ctx, src, s, series.Readings)
		out.Sure = false
	}
	return out, ok, err
}

// in returns the value by the rows of a tier.
func (m Moment) in(ctx context.Context, src Source, s engine.Series, tier series.Tier) (Found, bool, error) {
	out := Found{Series: s, Tier: tier, Sure: true}
	moment := m.At.UnixNano()
	near := nearby{moment: moment}
	// What is in the moment's own window, or of that very time.
	if err := near.scan(ctx, src, s, tier, moment-moment%max(1, int64(tier)), moment+1); err != nil {
		return out, false, err
	}
	if !near.best.known || m.How == Nearest {
		at, value, ok, err := src.Store.LastBefore(ctx, s.ID, tier, moment-moment%max(1, int64(tier)))
		if err != nil {
			return out, false, err
		}
		if ok {
			near.take(at, value)
		}
	}
	if m.How == Nearest && (!near.best.known || near.best.time != moment) {
		away := int64(mostAway)
		if near.best.known {
			away = min(away, moment-near.best.time)
		}
		if err := near.after(ctx, src, s, tier, moment+away); err != nil {
			return out, false, err
		}
	}
	if m.How != Nearest && near.best.known && near.best.time > moment {
		near.best.known = false
	}
	out.Time, out.Value = near.best.time, near.best.value
	out.Sure = tier == series.Readings || out.Time == moment || !near.window
	return out, near.best.known && (m.How != Exactly || out.Time == moment), nil
}

// nearby keeps the reading closest to a moment: of those at or before it the last, of
// those after it only one that is closer.
type nearby struct {
	moment int64
	best   struct {
		known bool
		time  int64
		value float64
	}
	window bool // there are readings in the moment's window whose times are not known
	ahead  bool // readings after the moment count
}

func (n *nearby) take(t int64, v float64) {
	if t > n.moment && !n.ahead {
		return
	}
	away := func(t int64) int64 { return max(t-n.moment, n.moment-t) }
	if !n.best.known || away(t) < away(n.best.time) {
		n.best.known, n.best.time, n.best.value = true, t, v
	}
}

func (n *nearby) scan(ctx context.Context, src Source, s engine.Series, tier series.Tier, from, to int64) error {
	want := engine.Wanted{Tier: tier, From: from, To: to, Need: rollup.NeedAll}
	return src.Store.Scan(ctx, s.ID, want, n)
}

// after looks after the moment, a stretch at a time, each longer than the last.
func (n *nearby) after(ctx context.Context, src Source, s engine.Series, tier series.Tier, until int64) error {
	n.ahead = true
	from := n.moment - n.moment%max(1, int64(tier))
	until = min(until, s.LastTime)
	for step := int64(time.Minute); from <= until; step *= 4 {
		before := n.best
		to := min(until+1, from+step)
		if err := n.scan(ctx, src, s, tier, from, to); err != nil {
			return err
		}
		if n.best != before {
			return nil // the first there is after it is the nearest there
		}
		from = to
	}
	return nil
}

// Rows takes the readings that rows tell of.
func (n *nearby) Rows(b column.Block, width int64) error {
	for i, t := range b.Times {
		if width == 0 {
			n.take(t, b.Cols[0][i])
			continue
		}
		known := map[int64]bool{}
		for _, col := range [][2]int{
			{rollup.ColFirstAt, rollup.ColFirst}, {rollup.ColMinAt, rollup.ColMin}, {rollup.ColMaxAt, rollup.ColMax},
			{rollup.ColLastAt, rollup.ColLast},
		} {
			when := t + int64(b.Cols[col[0]][i])
			known[when] = true
			n.take(when, b.Cols[col[1]][i])
		}
		if t <= n.moment && n.moment < t+width && float64(len(known)) < b.Cols[rollup.ColCount][i] {
			n.window = true
		}
	}
	return nil
}

// Whole is never called because Cut is nil.
func (n *nearby) Whole(int64, int64, rollup.Summary) error { return nil }
