package rollup

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"nexocumula/internal/core/series"
)

// Window names one window of one series, of its summaries or of its sketches.
type Window struct {
	Series uint32
	Tier   series.Tier // 0 of sketches, which are Quarter wide
	Sketch bool        `json:",omitempty"`
	Start  int64
}

// End returns where the window does.
func (w Window) End() int64 {
	if w.Sketch {
		return w.Start + int64(series.Quarter)
	}
	return w.Start + int64(w.Tier)
}

// Closed reports that the window may be summarised at now, if not how long it has been quiet.
func (w Window) Closed(now int64) bool { return w.End()+int64(closeAfter) <= now }

// Pending are the windows whose summary is not yet what their readings say. A
// window is due once it has closed and its series has been quiet for a moment, so
// that a burst of late readings leads to one revision and not to many.
//
// It has no lock and no clock: one goroutine owns it and says what time it is.
type Pending struct {
	live     marks // windows that had just ended when they were marked: somebody may be looking
	past     marks // all others, of which there may be very many
	earliest int64 // before it no window is due
	most     int   // windows there were since the maps were made

	news []Window // that were marked and OverNews has not told of; some may be pending no more

	// ready are windows of the past that were due, in order, from a look at all of them. What became of
	// them since, their marks say.
	ready []Window
}

type marks map[Window]touched

// liveFor is how long after its end a window is live.
const liveFor = 2 * time.Minute

type touched struct {
	first, last int64
	follows     time.Duration // how long after those it is made of, which have to be made before
}

// How long after a window's end it may be summarised, how long without a further
// reading for it, and how long at most one waits for such quiet.
const (
	closeAfter = 2 * time.Second
	quietFor   = time.Second
	waitAtMost = 10 * time.Second
	justNow    = 3 * time.Second
	madeWithin = 1500 * time.Millisecond // of a narrower tier, once it is due
	pastEvery  = time.Second             // windows of the past are due together: what is written at a time costs the same, however few they are
)

// NewPending has no marks yet.
func NewPending() *Pending {
	return &Pending{live: marks{}, past: marks{}}
}

// Len returns how many windows are pending.
func (p *Pending) Len() int { return len(p.live) + len(p.past) }

// each goes through all windows.
func (p *Pending) each(visit func(Window)) {
	for _, some := range []marks{p.live, p.past} {
		for w := range some {
			visit(w)
		}
	}
}

// has reports whether a window is pending.
func (p *Pending) has(w Window) bool {
	_, live := p.live[w]
	_, past := p.past[w]
	return live || past
}

// Touch marks the windows of a series' narrowest tier that hold one of the times, which
// ascend. Those of the wider tiers follow once these are made, see Follow.
func (p *Pending) Touch(id uint32, def *series.Definition, times []int64, now int64) {
	if def.Sketch {
		for _, t := range times {
			p.mark(Window{Series: id, Sketch: true, Start: series.Quarter.Start(t)}, now, 0)
		}
	}
	tier := def.Tiers.Narrowest()
	next := int64(math.MinInt64) // windows before it are marked already
	for _, t := range times {
		if t >= next {
			start := tier.Start(t)
			p.mark(Window{Series: id, Tier: tier, Start: start}, now, 0)
			next = start + int64(tier)
		}
	}
}

// Follow marks the windows of another tier that lie over those that were made. steps is how many
// tiers there are between it and the readings: the windows of each close a moment after those of
// the one before, so that the last of these is made.
func (p *Pending) Follow(made []Window, tier series.Tier, steps int, now int64) (marked []Window) {
	next := int64(math.MinInt64)
	for _, w := range made {
		for start := max(next, tier.Start(w.Start)); start < w.End(); start += int64(tier) {
			over := Window{Series: w.Series, Tier: tier, Start: start}
			p.mark(over, now, time.Duration(steps)*madeWithin)
			marked = append(marked, over)
			next = start + int64(tier)
		}
	}
	return marked
}

// TakeClosed takes those of some windows out that are pending and have just closed. Others, to which
// late readings came, wait until they are quiet: more are likely to follow.
func (p *Pending) TakeClosed(of []Window, now int64) (out []Window) {
	for _, w := range of {
		closed := now - w.End() - int64(closeAfter)
		if closed >= 0 && closed < int64(justNow) && p.has(w) {
			p.Drop(w)
			out = append(out, w)
		}
	}
	slices.SortFunc(out, Window.compare)
	return out
}

func (w Window) compare(o Window) int {
	return cmp.Or(cmp.Compare(w.Series, o.Series), cmp.Compare(w.Tier, o.Tier), cmp.Compare(w.Start, o.Start))
}

// Oldest is, of each series with a pending window of readings, where the oldest of these begins.
func (p *Pending) Oldest(narrowest func(id uint32) series.Tier) map[uint32]int64 {
	out := map[uint32]int64{}
	p.each(func(w Window) {
		if w.Sketch || w.Tier == narrowest(w.Series) {
			if before, ok := out[w.Series]; !ok || w.Start < before {
				out[w.Series] = w.Start
			}
		}
	})
	return out
}

// Stretch is a time of pending windows.
type Stretch struct{ From, To int64 }

// Over is, of each series, from the first to the last of those of its pending windows of summaries
// that which is true of.
func (p *Pending) Over(which func(Window) bool) map[uint32]Stretch {
	out := map[uint32]Stretch{}
	p.each(func(w Window) {
		if w.Sketch || !which(w) {
			return
		}
		widen(out, w)
	})
	return out
}

// widen takes a window into the stretch of its series.
func widen(of map[uint32]Stretch, w Window) {
	s, ok := of[w.Series]
	if !ok {
		s = Stretch{w.Start, w.End()}
	}
	of[w.Series] = Stretch{min(s.From, w.Start), max(s.To, w.End())}
}

// OverNews is Over of the closed windows that it has not told of yet.
func (p *Pending) OverNews(now int64, which func(Window) bool) map[uint32]Stretch {
	out := map[uint32]Stretch{}
	left := p.news[:0]
	for _, w := range p.news {
		switch {
		case !p.has(w):
		case !w.Closed(now):
			left = append(left, w)
		case !w.Sketch && which(w):
			widen(out, w)
		}
	}
	p.news = slices.Clip(left)
	return out
}

// remember notes a window for OverNews. Now and then it forgets those that are pending no more, and repeats.
func (p *Pending) remember(w Window) {
	const worthwhile = 4096
	if n := len(p.news); n >= worthwhile && n >= 2*p.Len() {
		p.news = slices.DeleteFunc(p.news, func(w Window) bool { return !p.has(w) })
		slices.SortFunc(p.news, Window.compare)
		p.news = slices.Compact(p.news)
	}
	p.news = append(p.news, w)
}

// Some returns the pending windows that which is true of, in order of series, tier and time.
func (p *Pending) Some(which func(Window) bool) (out []Window) {
	p.each(func(w Window) {
		if which(w) {
			out = append(out, w)
		}
	})
	slices.SortFunc(out, Window.compare)
	return out
}

// Drop makes a window no longer pending.
func (p *Pending) Drop(w Window) {
	delete(p.live, w)
	delete(p.past, w)
}

func (p *Pending) mark(w Window, now int64, follows time.Duration) {
	of, due := p.past, Window.duePast
	if _, live := p.live[w]; live || !p.has(w) && w.End() > now-int64(liveFor) {
		of, due = p.live, Window.due
	}
	t, ok := of[w]
	if !ok {
		t.first = now
		p.remember(w)
	}
	t.last, t.follows = now, follows
	of[w] = t
	p.earliest = min(p.earliest, due(w, t))
}

// due returns when a window is: once it is closed and has been quiet, or has waited long
// enough for that.
func (w Window) due(t touched) int64 {
	return max(w.End()+int64(closeAfter+t.follows), min(t.last+int64(quietFor), t.first+int64(waitAtMost)))
}

// duePast is due of a window of the past.
func (w Window) duePast(t touched) int64 {
	at := w.due(t) + int64(pastEvery) - 1
	return at - at%int64(pastEvery)
}

// Due takes out at most most windows that are due at now, in order of series, tier
// and time. With hurry those that closed are due without waiting for quiet. Those that have just ended go
// first. The past is looked through once for many calls: its windows come in order, so that neighbours are
// made together, and one that is touched again meanwhile waits for the next look. A look in vain costs
// nothing until one can be due.
func (p *Pending) Due(now int64, hurry bool, most int) []Window {
	if !hurry && now < p.earliest && len(p.ready) == 0 {
		return nil
	}
	p.earliest = math.MaxInt64
	isDue := func(w Window, t touched, due func(Window, touched) int64) bool {
		at := due(w, t)
		if at <= now || hurry && w.End()+int64(closeAfter+t.follows) <= now {
			return true
		}
		p.earliest = min(p.earliest, at)
		return false
	}
	var due []Window
	for w, t := range p.live {
		if !isDue(w, t, Window.due) {
			continue
		}
		if len(due) == most {
			p.earliest = math.MinInt64 // it still is
			break
		}
		due = append(due, w)
	}
	looked := len(p.ready) == 0
	if looked {
		for w, t := range p.past {
			if isDue(w, t, Window.duePast) {
				p.ready = append(p.ready, w)
			}
		}
		slices.SortFunc(p.ready, Window.compare)
	}
	for len(due) < most && len(p.ready) > 0 {
		w := p.ready[0]
		p.ready = p.ready[1:]
		if t, pending := p.past[w]; pending && isDue(w, t, Window.duePast) {
			due = append(due, w)
		}
	}
	if len(p.ready) == 0 {
		p.ready = nil // and its memory
		if !looked && len(p.past) > 0 {
			p.earliest = min(p.earliest, now) // those that were touched meanwhile were not looked at
		}
	}
	slices.SortFunc(due, Window.compare)
	p.most = max(p.most, p.Len())
	for _, w := range due {
		p.Drop(w)
	}
	p.shrink()
	return due
}

// shrink makes the maps anew once they hold much less than they did: maps keep the memory of all they ever
// held.
func (p *Pending) shrink() {
	const worthwhile, share = 4096, 8
	if p.most > worthwhile && p.Len() < p.most/share {
		for _, some := range []*marks{&p.live, &p.past} {
			again := make(marks, len(*some))
			maps.Copy(again, *some)
			*some = again
		}
		p.most = p.Len()
	}
}

// Restore puts windows back, as after a failed write or from a saved state.
func (p *Pending) Restore(windows []Window, now int64) {
	for _, w := range windows {
		p.mark(w, now, 0)
	}
}

// run is what Save writes of windows of one series that follow one another.
type run struct {
	Window
	Count int `json:",omitempty"` // how many; missing: one
}

// mostSaved windows are read back; more than memory has room for are never pending.
const mostSaved = 50_000_000

// Save returns the state for Load.
func (p *Pending) Save() ([]byte, error) {
	all := p.Some(func(Window) bool { return true })
	var runs []run
	for _, w := range all {
		if n := len(runs); n > 0 {
			last := &runs[n-1]
			next := last.Window
			next.Start += int64(last.Count) * (w.End() - w.Start)
			if next == w {
				last.Count++
				continue
			}
		}
		runs = append(runs, run{w, 1})
	}
	return json.Marshal(runs)
}

// Load restores what Save returned; nothing at all is an empty state.
func (p *Pending) Load(state []byte, now int64) error {
	if len(state) == 0 {
		return nil
	}
	var runs []run
	if err := json.Unmarshal(state, &runs); err != nil {
		return fmt.Errorf("reading the saved list of open windows: %w", err)
	}
	total := 0
	for _, one := range runs {
		if total += max(1, one.Count); one.Count < 0 || total > mostSaved {
			return fmt.Errorf("reading the saved list of open windows: it names more than %d", mostSaved)
		}
		for range max(1, one.Count) {
			p.mark(one.Window, now, 0)
			one.Start = one.End()
		}
	}
	return nil
}
