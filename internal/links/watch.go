package links

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"nexocumula/internal/event"
	"nexocumula/internal/store/records"
)

// State is the present state of a link.
type State struct {
	Link   string // such as "to head-office", "from stony-beck" or "source probes"
	Up     bool
	Since  time.Time // when it was last known to be up, if that is known
	Reason string    // why it is down
	Rows   int       // about how many summaries wait
	Oldest time.Time // since when; zero: nothing waits
	Moved  uint64    // summaries that arrived, in all

	// What the other end said when it was heard again. Some or all of it may have come with the same message, so
	// that it never shows in Rows. Zero at an end that knows by itself what waits.
	Return Return
}

// Return is the backlog at the end of a silence, as the other end reported it.
type Return struct {
	At     time.Time
	Rows   int
	Oldest time.Time
}

// CatchUp is how fast a link catches up.
type CatchUp struct {
	Rate     float64   // summaries that arrived a second, in the last minute
	CaughtUp time.Time // when nothing will wait any more, as it goes now; zero: not known, or nothing waits
	Arrived  float64   // the share of what waited at the end of the last outage that has arrived; 1: all of it
}

const (
	lookEvery   = 2 * time.Second
	noteEvery   = 5 * time.Minute // how often what waits is kept
	patience    = 5 * time.Second // what is down for less is no outage
	paceOver    = time.Minute
	mostSamples = int(paceOver/lookEvery) + 1
)

// History watches links and keeps what happened to them in the store.
type History struct {
	kept    records.Links
	now     func() time.Time
	log     *slog.Logger
	started time.Time

	mu     sync.Mutex
	links  map[string]*watched
	noted  time.Time // when what waits was last kept
	failed bool
}

type watched struct {
	downSince time.Time       // zero: it is up
	outage    *records.Outage // the last, until it is caught up
	changed   bool            // the outage is to be kept
	kept      int             // rows that were kept last; -1: none
	samples   []sample
}

type sample struct {
	at    time.Time
	rows  int
	moved uint64
}

// New goes on with the outages that were not over.
func New(kept records.Links, now func() time.Time, log *slog.Logger) (*History, error) {
	h := &History{kept: kept, now: now, log: log, started: now(), links: map[string]*watched{}}
	open, err := kept.Open()
	for _, o := range open {
		h.link(o.Link).outage = &o
	}
	return h, err
}

// Run looks at the links until ctx ends.
func (h *History) Run(ctx context.Context, look func() []State) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			h.Look(look())
		case <-ctx.Done():
			h.mu.Lock()
			defer h.mu.Unlock()
			return h.keep(nil, true)
		}
	}
}

// Look takes in how all links stand now.
func (h *History) Look(states []State) {
	h.mu.Lock()
	defer h.mu.Unlock()
	now, changed := h.now(), false
	there := map[string]bool{}
	for _, s := range states {
		if !s.Since.IsZero() && s.Since.Before(h.started) {
			s.Since = h.started // before it, this service was not there to hear
		}
		there[s.Link] = true
		l := h.link(s.Link)
		before := l.isDown()
		l.look(s, now)
		changed = changed || l.changed
		switch {
		case !before && l.isDown():
			event.LinkDown.To(h.log, "link", s.Link, "since", l.outage.Began.UTC(), "reason", s.Reason)
		case before && !l.isDown():
			event.LinkUp.To(h.log, "link", s.Link, "after", now.Sub(l.outage.Began).Round(time.Second))
		}
	}
	for name, l := range h.links {
		if !there[name] && l.outage != nil && l.outage.Ended.IsZero() { // it is no link any more
			l.outage.Ended, l.changed, changed = now, true, true
		}
	}
	due := now.Sub(h.noted) >= noteEvery || now.Before(h.noted)
	if !due && !changed {
		return
	}
	err := h.keep(states, due)
	if err != nil && !h.failed {
		event.HistoryUnkept.To(h.log, "error", err)
	}
	h.failed = err != nil
}

func (h *History) link(name string) *watched {
	if h.links[name] == nil {
		h.links[name] = &watched{kept: -1}
	}
	return h.links[name]
}

// isDown reports an outage that is not over.
func (l *watched) isDown() bool { return l.outage != nil && l.outage.Ended.IsZero() }

// look is one link's part.
func (l *watched) look(s State, now time.Time) {
	if !s.Up {
		l.samples = nil // how fast it goes is asked of the time since it goes
	}
	l.samples = append(l.samples, sample{now, s.Rows, s.Moved})
	if len(l.samples) > mostSamples {
		l.samples = l.samples[1:]
	}
	if s.Up {
		l.isUp(s, now)
		return
	}
	if l.downSince.IsZero() {
		l.downSince = now
		if !s.Since.IsZero() && s.Since.Before(now) {
			l.downSince = s.Since
		}
	}
	switch o := l.outage; {
	case o != nil && o.Ended.IsZero():
		l.waits(s)
	case now.Sub(l.downSince) >= patience:
		l.outage = &records.Outage{Link: s.Link, Began: l.downSince, Reason: s.Reason}
		l.changed = true
		l.waits(s)
	}
}

func (l *watched) isUp(s State, now time.Time) {
	l.downSince = time.Time{}
	o := l.outage
	if o == nil {
		return
	}
	if o.Ended.IsZero() {
		o.Ended, l.changed = now, true
	}
	l.waits(s)
	if r := s.Return; r.At.After(o.Began) { // and not of an outage before
		l.waits(State{Rows: r.Rows, Oldest: r.Oldest})
	}
	if s.Oldest.IsZero() || !s.Oldest.Before(o.Ended) {
		if o.Waited > 0 {
			o.CaughtUp, l.changed = now, true
		}
		if o.Waited > 0 || now.Sub(o.Ended) > paceOver { // who sends says what waits a little later
			if !l.changed {
				l.outage = nil
			}
		}
	}
}

// waits notes what waits because of an outage.
func (l *watched) waits(s State) {
	o := l.outage
	if s.Rows <= 0 || !o.Ended.IsZero() && !s.Oldest.Before(o.Ended) {
		return
	}
	if s.Rows > o.Waited {
		o.Waited = s.Rows
	}
	if !s.Oldest.IsZero() && (o.Oldest.IsZero() || s.Oldest.Before(o.Oldest)) {
		o.Oldest = s.Oldest
	}
}

// keep writes what changed; all says that what waits, and outages that go on, are written too.
func (h *History) keep(states []State, all bool) error {
	now := h.now()
	var outages []*records.Outage
	var waiting []records.Waiting
	for _, l := range h.links {
		if l.outage != nil && (l.changed || all) {
			outages = append(outages, l.outage)
		}
	}
	for _, s := range states {
		l := h.link(s.Link)
		if (all || l.changed) && s.Rows != l.kept && (s.Rows > 0 || l.kept > 0) {
			waiting = append(waiting, records.Waiting{Link: s.Link, At: now, Rows: s.Rows})
		}
	}
	if err := h.kept.Save(outages, waiting, records.Run{From: h.started, To: now}); err != nil {
		return err
	}
	for _, w := range waiting {
		h.link(w.Link).kept = w.Rows
	}
	for _, l := range h.links {
		if l.changed && l.outage != nil && !l.outage.CaughtUp.IsZero() {
			l.outage = nil
		}
		l.changed = false
	}
	if !all {
		return nil
	}
	h.noted = now
	return h.kept.Drop(now.Add(-records.KeepOutages))
}

// Pace returns how fast a link moves.
func (h *History) Pace(link string) (out CatchUp) {
	h.mu.Lock()
	defer h.mu.Unlock()
	out.Arrived = 1
	l := h.links[link]
	if l == nil || len(l.samples) == 0 {
		return out
	}
	if o := l.outage; o != nil && o.Waited > 0 {
		waits := l.samples[len(l.samples)-1].rows
		out.Arrived = 1 - float64(min(waits, o.Waited))/float64(o.Waited)
	}
	if len(l.samples) < 2 {
		return out
	}
	first, last := l.samples[0], l.samples[len(l.samples)-1]
	over := last.at.Sub(first.at).Seconds()
	if over <= 0 || last.moved < first.moved {
		return out
	}
	out.Rate = float64(last.moved-first.moved) / over
	if less := float64(first.rows-last.rows) / over; less > 0 && last.rows > 0 {
		out.CaughtUp = last.at.Add(time.Duration(float64(last.rows) / less * float64(time.Second)))
	}
	return out
}
