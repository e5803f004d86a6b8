package outbox

import (
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/clock"
	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
)

// Outboxes are the outboxes of one store. They accompany its engine.
type Outboxes struct {
	file   *sqlite.File
	engine Engine
	judge  *clock.Judge
	log    *slog.Logger
	newest map[string]func() (uint64, error) // the last change of each kind of records
	gaveUp func(uplink string, of marks.Of, from, to int64)

	mu    sync.Mutex // taken after the file's right to write
	boxes map[string]*Outbox
}

// Engine is what outboxes ask of the series engine.
type Engine interface {
	Get(id uint32) (engine.Series, bool)
	LastID() uint32
	Journalled() ([]engine.Entry, []engine.Sketch)
	Accompany(c engine.Companion)
}

// Open begins with no outbox. newest says the last change of each kind of records that number
// their changes.
func Open(file *sqlite.File, of Engine, newest map[string]func() (uint64, error)) *Outboxes {
	all := &Outboxes{
		file:   file,
		engine: of,
		newest: newest,
		judge:  file.Judge(),
		log:    file.Log(),
		boxes:  map[string]*Outbox{},
	}
	of.Accompany(all)
	return all
}

// TellGivenUp takes what is told of summaries that are given up. It is called once, before any outbox is opened.
func (a *Outboxes) TellGivenUp(tell func(uplink string, of marks.Of, from, to int64)) {
	a.gaveUp = tell
}

func (a *Outboxes) all() []*Outbox {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Collect(maps.Values(a.boxes))
}

// Appended marks what was written.
func (a *Outboxes) Appended(_ sqlite.Writer, entries []engine.Entry, sketches []engine.Sketch) {
	since := a.judge.Now().UnixNano()
	for _, o := range a.all() {
		o.add(entries, sketches, since)
	}
}

// Redefined marks the last summary of each series, with which its definition goes.
func (a *Outboxes) Redefined(_ sqlite.Writer, changed []engine.Series) {
	since := a.judge.Now().UnixNano()
	for _, o := range a.all() {
		o.addLast(changed, since)
	}
}

// Pending returns the marks that are not in the file.
func (a *Outboxes) Pending(sqlite.Writer) (pending []engine.Pending) {
	for _, o := range a.all() {
		c := o.unsaved()
		pending = append(pending, engine.Pending{Write: c.write, Written: c.written})
	}
	return pending
}

// Droppable keeps what was not sent, back to giveUp.
func (a *Outboxes) Droppable(of marks.Of, before, giveUp time.Time) int64 {
	until := before.UnixNano()
	for _, o := range a.all() {
		first := o.unsent(of)
		if !giveUp.IsZero() && first < giveUp.UnixNano() && first < until {
			from := first
			first = min(until, giveUp.UnixNano())
			if o.giveUp(of, first) > 0 && a.gaveUp != nil && of.Kind == marks.Summaries {
				a.gaveUp(o.name, of, max(from, 0), first)
			}
		}
		until = min(until, first)
	}
	return until
}

// Waiting reports whether any uplink still has to send summaries of a series' tier of before
// a time.
func (a *Outboxes) Waiting(id uint32, tier series.Tier, before int64) bool {
	return slices.ContainsFunc(a.all(), func(o *Outbox) bool {
		return o.unsent(marks.Of{Series: id, Tier: tier}) < before
	})
}

// Scope is what an uplink sends.
type Scope struct {
	Series  func(series.Path) bool  // whether it sends a series
	About   func(place string) bool // whether it sends records about a site or something in it
	Tiers   []series.Tier           // nil: all there are
	Selects string                  // another when it sends other series
}

// Open returns the outbox of the uplink with that name: as it was, or with everything
// in it when it is new or sends other tiers or series than before.
func (a *Outboxes) Open(name string, scope Scope) (*Outbox, error) {
	o := &Outbox{
		boxes: a, name: name, scope: scope, wake: make(chan struct{}, 1),
		isMine: map[uint32]bool{}, records: recordCursors{map[string]uint64{}, map[string]uint64{}}, refused: map[marks.Of]*refusedMark{}, saved: saved{shards: map[uint32]uint32{}},
	}
	err := a.file.Write(func(w sqlite.Writer) error {
		if err := o.open(w); err != nil {
			return err
		}
		entries, sketches := a.engine.Journalled()
		o.add(entries, sketches, a.judge.Now().UnixNano())
		a.mu.Lock()
		defer a.mu.Unlock()
		a.boxes[name] = o
		return nil
	})
	if err != nil {
		return nil, err
	}
	return o, nil
}

// Forget forgets the uplinks that are not named any more. Should one come back, it begins with
// everything.
func (a *Outboxes) Forget(but []string) error {
	return a.file.Write(func(w sqlite.Writer) error {
		err := w.Transaction(func(tx *gorm.DB) error {
			if err := tx.Where("name NOT IN ?", append(but, "")).Delete(&uplinkRow{}).Error; err != nil {
				return err
			}
			return tx.Where("uplink NOT IN ?", append(but, "")).Delete(&marksRow{}).Error
		})
		if err != nil {
			return fmt.Errorf("forgetting uplinks: %w", err)
		}
		a.mu.Lock()
		defer a.mu.Unlock()
		maps.DeleteFunc(a.boxes, func(name string, _ *Outbox) bool { return !slices.Contains(but, name) })
		return nil
	})
}
