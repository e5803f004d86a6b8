package rollup

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// Window names one window of one series.
type Window struct {
	Series uint32
	Tier   Tier
	Start  int64
}

// Pending are the windows whose summary is not yet what their readings say. A
// window is due once it has closed and its series has been quiet for a moment, so
// that a burst of late readings leads to one revision and not to many.
//
// It has no lock and no clock: one goroutine owns it and says what time it is.
type Pending struct {
	tiers []Tier
	marks map[Window]touched
}

type touched struct{ first, last int64 }

// How long after a window's end it may be summarised, how long without a further
// reading for it, and how long at most one waits for such quiet.
const (
	closeAfter = 2 * time.Second
	quietFor   = time.Second
	waitAtMost = 10 * time.Second
)

// NewPending keeps marks for the given tiers.
func NewPending(tiers []Tier) *Pending {
	return &Pending{tiers: tiers, marks: map[Window]touched{}}
}

// Len is how many windows are pending.
func (p *Pending) Len() int { return len(p.marks) }

// Touch marks every window that holds one of rows, which are in order of time. A
// row older than newest, the newest time known before, is late: the windows after it
// that the reading before it used to speak for are marked too, as what they are
// covered by may have changed.
func (p *Pending) Touch(id uint32, def *series.Definition, rows column.Block, newest, now int64) {
	freshFor := def.FreshFor
	if def.Sketch {
		for _, t := range rows.Times {
			p.mark(Window{id, Quarter, Quarter.Start(t)}, now)
		}
	}
	for _, tier := range p.tiers {
		next := int64(math.MinInt64) // windows before it are marked already
		for _, t := range rows.Times {
			until := t
			if t < newest {
				until = min(t+int64(freshFor), newest)
			}
			if until < next {
				continue
			}
			for start := max(tier.Start(t), next); start <= until; start += int64(tier) {
				p.mark(Window{id, tier, start}, now)
				next = start + int64(tier)
			}
		}
	}
}

func (p *Pending) mark(w Window, now int64) {
	t, ok := p.marks[w]
	if !ok {
		t.first = now
	}
	t.last = now
	p.marks[w] = t
}

// Due takes out at most most windows that are due at now, in order of series, tier
// and time. With hurry those that closed are due without waiting for quiet.
func (p *Pending) Due(now int64, hurry bool, most int) []Window {
	var due []Window
	for w, t := range p.marks {
		closed := w.Start+int64(w.Tier)+int64(closeAfter) <= now
		quiet := t.last+int64(quietFor) <= now || t.first+int64(waitAtMost) <= now
		if closed && (quiet || hurry) {
			due = append(due, w)
		}
	}
	slices.SortFunc(due, func(a, b Window) int {
		return cmp.Or(cmp.Compare(a.Series, b.Series), cmp.Compare(a.Tier, b.Tier), cmp.Compare(a.Start, b.Start))
	})
	due = due[:min(len(due), most)]
	for _, w := range due {
		delete(p.marks, w)
	}
	return due
}

// Restore puts windows back, as after a failed write or from a saved state.
func (p *Pending) Restore(windows []Window, now int64) {
	for _, w := range windows {
		p.mark(w, now)
	}
}

// Save is the state for Load.
func (p *Pending) Save() ([]byte, error) {
	all := make([]Window, 0, len(p.marks))
	for w := range p.marks {
		all = append(all, w)
	}
	return json.Marshal(all)
}

// Load restores what Save returned; nothing at all is an empty state.
func (p *Pending) Load(state []byte, now int64) error {
	if len(state) == 0 {
		return nil
	}
	var all []Window
	if err := json.Unmarshal(state, &all); err != nil {
		return fmt.Errorf("reading the saved list of open windows: %w", err)
	}
	p.Restore(all, now)
	return nil
}
