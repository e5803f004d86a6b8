package engine

import (
	"context"
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Entry is rows of one series at one tier. Rows must be normalized.
type Entry struct {
	Series uint32
	Tier   series.Tier
	Rows   column.Block
}

// Batch is the content of one Append, written in full or not at all. Of entries for the same
// series and tier, rows of the later hide rows of the earlier.
type Batch struct {
	Entries  []Entry
	Sketches []Sketch        // those of one series next to each other
	Also     []sqlite.Change // other records that belong to it
	Incoming bool            // from outside: it is refused while nothing is taken in, see Hold
}

// Append writes the batch durably and returns once it is on disk and can be read.
// Companions know of it then. It waits while the tray is full and a seal is about to empty
// it; when ctx ends before anything is written, nothing is.
func (e *Engine) Append(ctx context.Context, b Batch) error {
	if err := e.waitForRoom(ctx); err != nil {
		return fmt.Errorf("waiting for room in memory: %w", err)
	}
	if why := e.Held(); why != "" && b.Incoming {
		return e.file.SetTrouble("writing", fmt.Errorf("writing to the store: %s", why))
	}
	payload, err := encodeJournal(b.Entries, b.Sketches)
	if err != nil {
		return err
	}
	return e.file.Write(func(w sqlite.Writer) error {
		number, err := e.commit(w, b, payload)
		if err != nil {
			return e.file.SetTrouble("writing", fmt.Errorf("writing to the store: %w", err))
		}
		e.file.ClearTrouble("writing")
		sketches := starts(b.Sketches)
		e.alter(func(m *memory) {
			if m.unwritten = nil; len(payload) > 0 {
				m.journal.last = number
			}
			m.takeIn(b.Entries, sketches, len(payload))
			m.notify(b.Entries)
		})
		for _, c := range e.companions {
			c.Appended(w, b.Entries, sketches)
		}
		w.Committed(e.Commits())
		return nil
	})
}

// commit is the transaction of an Append.
func (e *Engine) commit(w sqlite.Writer, b Batch, payload []byte) (number uint64, err error) {
	counts := e.numbers(w)
	counts.journalNext++ // also when it fails: the row may have reached the disk all the same
	row := journalRow{ID: counts.journalNext, Payload: payload}
	return row.ID, w.Transaction(func(tx *gorm.DB) error {
		if err := e.writeNew(tx, nil); err != nil {
			return err
		}
		if len(payload) > 0 {
			if err := tx.Create(&row).Error; err != nil {
				return fmt.Errorf("writing the journal: %w", err)
			}
		}
		for _, change := range b.Also {
			if err := change(tx); err != nil {
				return err
			}
		}
		return writeSketches(tx, b.Sketches)
	})
}

// takeIn makes readable what stands in the journal.
func (m *memory) takeIn(entries []Entry, sketches []Sketch, bytes int) {
	m.journal.bytes += bytes
	m.journal.sketches = append(m.journal.sketches, sketches...)
	for _, e := range entries {
		if e.Rows.Len() > 0 {
			m.addToTray(e)
		}
	}
}

func starts(sketches []Sketch) []Sketch {
	out := make([]Sketch, len(sketches))
	for i, s := range sketches {
		out[i] = Sketch{Series: s.Series, Start: s.Start}
	}
	return out
}
