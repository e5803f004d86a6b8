package window

import (
	"fmt"
	"time"
)

// Shifted returns the same windows a step earlier, by the clocks of the grid's zone. Every
// moment of the earlier time belongs to one window at most: an hour that the clocks show
// twice, and the 31st seen from a month of thirty days, have nothing earlier to stand
// beside but the first time, or the day before.
func (g Grid) Shifted(windows []Window, by Step) ([]Window, error) {
	zone := g.Zone
	if zone == nil {
		zone = time.UTC
	}
	if first := time.Unix(0, windows[0].From).In(zone); by.From(first, -1).Before(Earliest) {
		return nil, fmt.Errorf("windows %s earlier than %s begin before the year %d", by, first.Format(time.RFC3339),
			Earliest.Year())
	}
	earlier := func(s Span) Span { return Span{by.back(s.From, zone), by.back(s.To, zone)} }
	out := make([]Window, len(windows))
	for i, w := range windows {
		out[i] = Window{Span: earlier(w.Span), Place: w.Place}
		if w.Pieces != nil || out[i].From >= out[i].To {
			out[i].Pieces = []Span{}
		}
		for _, p := range w.Pieces {
			if moved := earlier(p); moved.From < moved.To {
				out[i].Pieces = append(out[i].Pieces, moved)
			}
		}
	}
	return out, nil
}

// back returns the time a step earlier. A later time never comes back earlier than an earlier
// one, so that what lies side by side does so still.
func (s Step) back(t int64, zone *time.Location) int64 {
	at := time.Unix(0, t).In(zone)
	if s.Fixed > 0 {
		return t - int64(s.Fixed)
	}
	shown := reading(at)
	if first := when(shown, zone); first.Before(at) { // the clocks show it for the second time
		turned, _ := at.ZoneBounds()
		shown = reading(turned.Add(-1).In(zone)).Add(1) // what they showed when they were set back
	}
	year, month, day := shown.Date()
	to := s.after(shown, -1)
	if s.Months > 0 && to.Day() != day { // there is no such day: all that remains of it is its end
		to = midnight(year, month-time.Month(s.Months)+1, 1)
	}
	return when(to, zone).UnixNano()
}
