package engine

import (
	"context"
	"encoding/binary"
	"fmt"
	"log/slog"
	"math"
	"sync"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/clock"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Engine keeps the series of one file. All its methods may be used at the same time.
//
// Locks are taken in one order: sealing, the file's right to write, those of companions,
// the memory's.
type Engine struct {
	file       *sqlite.File
	log        *slog.Logger
	judge      *clock.Judge
	history    History
	companions []Companion

	sealing sync.Mutex // held by whoever changes chunks
	counts  numbers    // see numbers
	guarded
}

// History keeps the definitions that series had. Replaced is part of the transaction that
// replaces one.
type History interface {
	Replaced(tx *gorm.DB, id uint32, before, after series.Definition, at time.Time) error
}

// Companion has records of its own that change with what the engine writes, such as the
// marks of uplinks. Its methods may read from the engine.
type Companion interface {
	// Appended is told what was just written, before anybody else can write.
	Appended(w sqlite.Writer, entries []Entry, sketches []Sketch)
	// Redefined is told whose definition changes, before that is written.
	Redefined(w sqlite.Writer, changed []Series)
	// Pending is what is to be written in the same transaction as the end of a seal, after
	// which the journal tells of nothing that was appended before, or as a definition.
	Pending(w sqlite.Writer) []Pending
	// Droppable returns up to when rows of before a time may be dropped. What is still
	// needed stays, but only back to giveUp; a zero giveUp gives up nothing.
	Droppable(of marks.Of, before, giveUp time.Time) int64
}

// Pending is a change of a companion, and what to do once it is on disk.
type Pending struct {
	Write   sqlite.Change
	Written func()
}

// Open reads what the engine has to know of the file, and begins a run.
func Open(ctx context.Context, file *sqlite.File, history History) (*Engine, error) {
	e := &Engine{file: file, log: file.Log(), judge: file.Judge(), history: history, guarded: guarded{
		ended: make(chan struct{}),
		memory: memory{
			tray: map[seriesTier]column.Block{}, late: map[uint32]struct{}{}, orphans: map[series.Path]orphan{},
			sealedTo: map[seriesTier]int64{}, patched: map[seriesTier]extent{},
			followers: map[*Follower]struct{}{},
		},
	}}
	for _, step := range []func() error{e.loadCatalogue, e.loadOrphans, e.loadPatches, e.loadJournalState, e.replayJournal} {
		if err := step(); err != nil {
			return nil, file.Opening(err)
		}
	}
	if err := e.begin(); err != nil {
		return nil, err
	}
	if err := e.recallUnsure(ctx); err != nil {
		return nil, err
	}
	return e, e.reattach(ctx)
}

// Accompany lets a companion know of all that is written from now on.
func (e *Engine) Accompany(c Companion) {
	e.companions = append(e.companions, c)
}

// begin begins a run of the file. When it had more commits before, that was reported, and
// these numbers are not used again.
func (e *Engine) begin() error {
	had := e.Commits()
	last, err := e.file.Begin(had)
	if err != nil {
		return err
	}
	if last > had {
		e.alter(func(m *memory) { m.journal.last = last })
		if err := e.saveJournalState(last); err != nil {
			return err
		}
	}
	return e.file.Write(func(w sqlite.Writer) error {
		e.numbers(w).journalNext = last
		return nil
	})
}

// numbers are reached by whoever may write.
func (e *Engine) numbers(sqlite.Writer) *numbers { return &e.counts }

const journalState = "journal"

// loadJournalState reads how far the journal had come at the last seal.
func (e *Engine) loadJournalState() error {
	payload, err := e.file.State(journalState)
	if err != nil {
		return err
	}
	if n, ok := binary.Uvarint(payload); ok > 0 {
		e.alter(func(m *memory) { m.journal.last = n })
	}
	return nil
}

func (e *Engine) saveJournalState(last uint64) error {
	if err := e.file.PutState(journalState, binary.AppendUvarint(nil, last)); err != nil {
		return fmt.Errorf("writing the journal's state: %w", err)
	}
	return nil
}

// Commits returns how many commits of readings or summaries were made in all.
func (e *Engine) Commits() (n uint64) {
	e.look(func(m *memory) { n = m.journal.last })
	return n
}

// sealedUntil returns the newest time in chunks of a series and tier, or later; math.MinInt64
// without any.
func (e *Engine) sealedUntil(ctx context.Context, at seriesTier) (until int64, err error) {
	var known bool
	var before uint64
	e.look(func(m *memory) {
		until, known = m.sealedTo[at]
		before = m.renewals
	})
	if known {
		return until, nil
	}
	c, err := sqlite.ChunkBefore(e.file.Reader().WithContext(ctx), at.series, int64(at.tier), math.MaxInt64)
	if err != nil {
		return 0, err
	}
	until = math.MinInt64
	if c.ID != 0 {
		until = c.LastAt
	}
	e.alter(func(m *memory) {
		if m.renewals == before { // no chunk was written while we looked
			m.sealedTo[at] = until
		}
	})
	return until, nil
}

// Tidy gives free pages back to the file system, a few at a time.
func (e *Engine) Tidy() error {
	return e.file.Write(func(w sqlite.Writer) error {
		return w.GiveBackPages(2 * e.numbers(w).journalMost)
	})
}

// Close ends the waiting of Appends. The file is closed by whoever opened it.
func (e *Engine) Close() {
	e.alterAndWake(func(m *memory) { m.closing = true })
}

// Tables returns the models of the tables that this package writes.
func Tables() []any {
	return []any{&journalRow{}, &seriesRow{}, &latestRow{}, &sketchRow{}}
}
