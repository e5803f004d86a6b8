package store

import (
	"encoding/binary"
	"fmt"
	"maps"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
)

// The tray is the rows in memory that are in the journal and not yet in a chunk: sorted
// columns for each series and tier.

// seriesTier names the rows of one series at one tier.
type seriesTier struct {
	series uint32
	tier   rollup.Tier
}

// waitForRoom bounds the memory of the tray: what comes faster than it can be sealed
// has to wait.
func (s *Store) waitForRoom() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for s.trayWeight >= mostInTray && s.leaving != nil && !s.closing {
		s.sealed.Wait()
	}
}

// addToTray adds rows to the tray and to what the catalogue knows. Callers hold mu.
func (s *Store) addToTray(e Entry) {
	at := seriesTier{e.Series, e.Tier}
	before := s.tray[at]
	merged := column.Merge(before, e.Rows)
	if before.Len() == 0 {
		merged = merged.Clone() // the caller keeps its rows
	}
	s.trayRows += merged.Len() - before.Len()
	s.trayWeight += weight(merged) - weight(before)
	s.tray[at] = merged
	if known := s.catalogue.get(e.Series); known != nil {
		if known.saw(e.Tier, e.Rows); !known.Late.none() {
			s.late[e.Series] = struct{}{}
		}
	}
}

// weight is about how many bytes rows take in memory.
func weight(b column.Block) int { return b.Len() * 8 * (1 + len(b.Cols)) }

// inTray returns the unsealed rows of a span. It is read before the chunks: a seal
// in between moves rows from here to there, where they are then found a second time.
func (s *Store) inTray(at seriesTier, from, to int64) column.Block {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return column.Merge(s.leaving[at].Between(from, to), s.tray[at].Between(from, to))
}

// Unsealed calls visit with all rows of a tier that are not in chunks yet: after Open,
// all that was written since the last Seal.
func (s *Store) Unsealed(tier rollup.Tier, visit func(series uint32, rows column.Block)) {
	s.mu.RLock()
	tray := maps.Clone(s.tray)
	s.mu.RUnlock()
	for at, rows := range tray {
		if at.tier == tier {
			visit(at.series, rows)
		}
	}
}

// UnsealedRows is how many rows are not in chunks yet.
func (s *Store) UnsealedRows() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	rows := s.trayRows
	for _, b := range s.leaving {
		rows += b.Len()
	}
	return rows
}

// replayJournal fills the tray from the journal rows left over.
func (s *Store) replayJournal() error {
	rows, err := s.db.Model(&journalRow{}).Order("id").Rows()
	if err != nil {
		return fmt.Errorf("reading the journal: %w", err)
	}
	defer rows.Close()
	var broken []damagedRow
	for rows.Next() {
		var row journalRow
		if err := s.db.ScanRows(rows, &row); err != nil {
			return fmt.Errorf("reading the journal: %w", err)
		}
		s.journal.last = max(s.journal.last, row.ID)
		entries, sketches, err := decodeJournal(row.Payload)
		if err != nil {
			broken = append(broken, damagedRow{ID: row.ID, Place: "journal", Reason: err.Error(), Raw: row.Payload})
			continue
		}
		s.journal.bytes += len(row.Payload)
		s.journal.sketches = append(s.journal.sketches, sketches...)
		for _, e := range entries {
			s.addToTray(e)
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading the journal: %w", err)
	}
	rows.Close()
	s.journal.next = s.journal.last
	if len(broken) == 0 {
		return nil
	}
	if err := s.setAside(broken); err != nil {
		return err
	}
	return put(s.db, &stateRow{Name: journalState, Payload: binary.AppendUvarint(nil, s.journal.last)}) // its highest row may be gone
}
