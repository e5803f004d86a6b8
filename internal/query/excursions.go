package query

import (
	"context"
	"math"
	"time"

	"nexocumula/internal/core/excursion"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// Excursions asks what left its normal range, and what was silent, in a time.
type Excursions struct {
	Select series.Selector
	Range  window.Range
	Zone   *time.Location
	Now    time.Time
}

// Excursed holds the excursions and silences of one series.
type Excursed struct {
	engine.Series
	Width      time.Duration // of the windows that it was found by
	Excursions []excursion.Excursion
	Silences   []excursion.Silence
}

// mostExcursionWindows is how many windows of a series are looked at, at most.
const mostExcursionWindows = 1500

// leastSilence is how long a series has to be silent to be told, whatever it says of itself.
const leastSilence = 2 * time.Minute

// Run returns the series to which something happened, by path.
func (q Excursions) Run(ctx context.Context, src Source) ([]Excursed, error) {
	ctx, cancel := context.WithTimeout(ctx, src.Limits.MaxTime)
	defer cancel()
	found, err := Find(src.Store, q.Select)
	if err != nil {
		return nil, err
	}
	if len(found) > src.Limits.MaxSeries {
		return nil, refuse("too_large", "%s names %d series; at most %d are answered at once: name fewer", q.Select,
			len(found), src.Limits.MaxSeries)
	}
	if err := q.Range.Check(); err != nil {
		return nil, refuse("range", "%v", err)
	}
	out := []Excursed{}
	for _, s := range found {
		if s.FirstSeen == 0 || s.FirstSeen >= q.Range.To.UnixNano() {
			continue
		}
		one, err := q.of(ctx, src, s)
		if err != nil {
			return nil, tooSlow(ctx, src, err)
		}
		if len(one.Excursions)+len(one.Silences) > 0 {
			out = append(out, one)
		}
	}
	return out, nil
}

// of looks at one series, in windows as narrow as its summaries and the length of the range allow.
func (q Excursions) of(ctx context.Context, src Source, s engine.Series) (Excursed, error) {
	width := time.Minute
	for _, wider := range []time.Duration{5 * time.Minute, 15 * time.Minute, time.Hour, 6 * time.Hour, 24 * time.Hour} {
		if narrowest := s.Tiers.Narrowest().Width(); q.Range.To.Sub(q.Range.From) > mostExcursionWindows*width ||
			width%narrowest != 0 {
			width = wider
		}
	}
	ask := Windows{
		Select: []series.Selector{exactly(s.Path)},
		Range:  q.Range,
		Now:    q.Now,
		Grid:   window.Grid{Zone: q.Zone, Width: window.Step{Fixed: width}},
	}
	names := "count,min,max,min_at,max_at"
	if s.Kind == series.Bearing || s.Normal == "" {
		names = "count"
	}
	var err error
	if ask.Stats, err = window.ParseStats(names); err != nil {
		return Excursed{}, err
	}
	got := &taken{}
	if err := ask.run(ctx, src, got); err != nil {
		return Excursed{}, err
	}
	windows := got.windows(q.Now)
	out := Excursed{Series: s, Width: width}
	if names != "count" {
		out.Excursions = excursion.Find(windows, s.Normal)
		for i := range out.Excursions {
			e := &out.Excursions[i]
			e.From, e.To = q.within(e.From), q.within(e.To)
		}
	}
	longest := max(2*s.FreshFor, 3*s.Every, leastSilence) + width
	out.Silences = excursion.Silences(windows, int64(longest), s.FirstSeen < q.Range.From.UnixNano())
	for i := range out.Silences {
		e := &out.Silences[i]
		e.From, e.To = q.within(e.From), q.within(e.To)
	}
	return out, nil
}

// within cuts a time of windows, which are whole, to the range.
func (q Excursions) within(at int64) int64 {
	return min(max(at, q.Range.From.UnixNano()), q.Range.To.UnixNano())
}

func exactly(path series.Path) series.Selector {
	selector, _ := series.ParseSelector(string(path)) // a path is one
	return selector
}

// taken is a sink that keeps one series.
type taken struct {
	head Head
	rows SeriesRows
}

func (t *taken) Head(h Head) error            { t.head = h; return nil }
func (t *taken) Series(rows SeriesRows) error { t.rows = rows; return nil }

// windows returns the rows as summaries, but for those that are not over.
func (t *taken) windows(now time.Time) (out []excursion.Window) {
	for i, w := range t.head.Windows {
		if !now.IsZero() && w.From >= now.UnixNano() {
			break
		}
		one := excursion.Window{From: w.From, To: w.To, Count: t.rows.Counts[i]}
		if len(t.rows.Rows.Stats) > 1 && !math.IsNaN(t.rows.Rows.Stats[1][i]) {
			one.Min, one.Max, one.MinAt, one.MaxAt = t.rows.Rows.Stats[1][i], t.rows.Rows.Stats[2][i], t.rows.Times[3][i], t.rows.Times[4][i]
		}
		if one.Count == 0 && i < len(t.rows.Open) && t.rows.Open[i] {
			continue // its readings may be on their way
		}
		out = append(out, one)
	}
	return out
}
