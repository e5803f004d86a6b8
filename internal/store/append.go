package store

import (
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
)

// Entry is rows of one series at one tier. Rows must be normalized.
type Entry struct {
	Series uint32
	Tier   rollup.Tier
	Rows   column.Block
}

// Batch is the content of one Append, written in full or not at all. Of entries for the same
// series and tier, rows of the later hide rows of the earlier.
type Batch struct {
	Entries  []Entry
	Sketches []Sketch // those of one series next to each other
	Rejects  []reading.Reject
	Cursors  []Cursor
}

// Append writes the batch durably and returns once it is on disk and can be read.
// Summaries and sketches are marked for every uplink that sends them. It waits while
// the tray is full and a seal is about to empty it.
func (s *Store) Append(b Batch) error {
	s.waitForRoom()
	payload, err := encodeJournal(b.Entries, b.Sketches)
	if err != nil {
		return err
	}
	s.write.Lock()
	defer s.write.Unlock()
	if err := s.commit(b, payload); err != nil {
		return s.noted("writing", fmt.Errorf("writing to the store: %w", err))
	}
	s.resolved("writing")
	s.takeIn(b, len(payload))
	s.judge.Wrote()
	s.watermark.wrote(s.journal.last, s.judge)
	return nil
}

// commit is the transaction of an Append. write is held.
func (s *Store) commit(b Batch, payload []byte) error {
	s.journal.next++ // also when it fails: the row may have reached the disk all the same
	row := journalRow{ID: s.journal.next, Payload: payload}
	return s.db.Transaction(func(tx *gorm.DB) error {
		if len(payload) > 0 {
			if err := tx.Create(&row).Error; err != nil {
				return fmt.Errorf("writing the journal: %w", err)
			}
		}
		for _, c := range b.Cursors {
			if err := put(tx, c.row()); err != nil {
				return fmt.Errorf("writing the cursor of %s: %w", c.Name, err)
			}
		}
		if err := writeSketches(tx, b.Sketches); err != nil {
			return err
		}
		return s.writeRejects(tx, b.Rejects)
	})
}

// takeIn makes what was committed readable, marks it for the uplinks and tells those
// who follow.
func (s *Store) takeIn(b Batch, bytes int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if bytes > 0 {
		s.journal.last = s.journal.next
		s.journal.bytes += bytes
	}
	for _, e := range b.Entries {
		if e.Rows.Len() > 0 {
			s.addToTray(e)
		}
	}
	since := s.judge.Now().UnixNano()
	s.journal.sketches = append(s.journal.sketches, starts(b.Sketches)...)
	for _, o := range s.outboxes {
		o.add(b.Entries, b.Sketches, since)
	}
	for f := range s.followers {
		f.tell(b.Entries)
	}
}

func starts(sketches []Sketch) []Sketch {
	out := make([]Sketch, len(sketches))
	for i, s := range sketches {
		out[i] = Sketch{Series: s.Series, Start: s.Start}
	}
	return out
}
