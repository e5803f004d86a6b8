package store

import (
	"encoding/binary"
	"fmt"
	"maps"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/chunk"
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

// Batch is what one Append writes: all of it, or nothing. Of entries for the same
// series and tier, rows of the later hide rows of the earlier.
type Batch struct {
	Entries  []Entry
	Sketches []Sketch
	Rejects  []reading.Reject
	Outbox   []Parcel
	Cursors  []Cursor
}

// Append writes the batch durably and returns once it is on disk. It waits while the
// head is full and a seal is on its way to empty it.
func (s *Store) Append(b Batch) error {
	s.waitForRoom()
	payload, err := encodeJournal(b.Entries)
	if err != nil {
		return err
	}
	s.write.Lock()
	defer s.write.Unlock()
	row := journalRow{Payload: payload}
	err = s.db.Transaction(func(tx *gorm.DB) error {
		if len(payload) > 0 {
			if err := tx.Create(&row).Error; err != nil {
				return fmt.Errorf("writing the journal: %w", err)
			}
		}
		return writeBeside(tx, b)
	})
	if err != nil {
		return fmt.Errorf("writing to the store: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(payload) > 0 {
		s.journal.last = row.ID
		s.journal.bytes += len(payload)
	}
	for _, e := range b.Entries {
		if e.Rows.Len() > 0 {
			s.takeIn(e)
		}
	}
	return nil
}

// waitForRoom bounds the memory of the head: what comes faster than it can be sealed
// has to wait.
func (s *Store) waitForRoom() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for s.headRows >= mostHeadRows && s.frozen != nil {
		s.sealed.Wait()
	}
}

// writeBeside writes what a batch holds besides rows.
func writeBeside(tx *gorm.DB, b Batch) error {
	for _, p := range b.Outbox {
		row := outboxRow{Uplink: p.Uplink, Seq: p.Seq, Created: time.Now().UnixNano(), Rows: p.Rows, Payload: p.Payload}
		if err := tx.Create(&row).Error; err != nil {
			return fmt.Errorf("writing batch %d to the outbox of %s: %w", p.Seq, p.Uplink, err)
		}
	}
	for _, c := range b.Cursors {
		if err := tx.Save(c.row()).Error; err != nil {
			return fmt.Errorf("writing the cursor of %s: %w", c.Name, err)
		}
	}
	if err := writeSketches(tx, b.Sketches); err != nil {
		return err
	}
	return writeRejects(tx, b.Rejects)
}

// takeIn adds rows to the head and to what the catalogue knows. Callers hold mu.
func (s *Store) takeIn(e Entry) {
	at := place{e.Series, e.Tier}
	before := s.heads[at]
	merged := column.Merge(before, e.Rows)
	if before.Len() == 0 {
		merged = merged.Clone() // the caller keeps its rows
	}
	s.headRows += merged.Len() - before.Len()
	s.heads[at] = merged
	if known := s.catalogue.get(e.Series); known != nil {
		known.saw(e.Tier, e.Rows)
	}
}

// A journal row holds entry after entry: uvarint series, uvarint tier in
// nanoseconds, uvarint length, then the rows as package chunk writes them.
func encodeJournal(entries []Entry) ([]byte, error) {
	var out []byte
	for _, e := range entries {
		if e.Rows.Len() == 0 {
			continue
		}
		rows, err := chunk.EncodePlain(e.Rows)
		if err != nil {
			return nil, fmt.Errorf("writing to the store: series %d: %w", e.Series, err)
		}
		out = binary.AppendUvarint(out, uint64(e.Series))
		out = binary.AppendUvarint(out, uint64(e.Tier))
		out = binary.AppendUvarint(out, uint64(len(rows)))
		out = append(out, rows...)
	}
	return out, nil
}

func decodeJournal(payload []byte) ([]Entry, error) {
	var entries []Entry
	for len(payload) > 0 {
		var head [3]uint64
		for i := range head {
			v, n := binary.Uvarint(payload)
			if n <= 0 {
				return nil, fmt.Errorf("journal row ends inside an entry's head")
			}
			head[i], payload = v, payload[n:]
		}
		if head[2] > uint64(len(payload)) {
			return nil, fmt.Errorf("journal row ends inside an entry")
		}
		rows, err := chunk.Decode(payload[:head[2]])
		if err != nil {
			return nil, err
		}
		entries = append(entries, Entry{Series: uint32(head[0]), Tier: rollup.Tier(head[1]), Rows: rows})
		payload = payload[head[2]:]
	}
	return entries, nil
}

// replayJournal fills the head from the journal rows left over.
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
		entries, err := decodeJournal(row.Payload)
		if err != nil {
			broken = append(broken, damagedRow{ID: row.ID, Place: "journal", Reason: err.Error(), Raw: row.Payload})
			continue
		}
		s.journal.last = row.ID
		s.journal.bytes += len(row.Payload)
		for _, e := range entries {
			s.takeIn(e)
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading the journal: %w", err)
	}
	rows.Close()
	return s.setAside(broken)
}

// InHead calls visit with everything the head holds of a tier: after Open, all that
// was written since the last Seal.
func (s *Store) InHead(tier rollup.Tier, visit func(series uint32, rows column.Block)) {
	s.mu.RLock()
	heads := maps.Clone(s.heads)
	s.mu.RUnlock()
	for at, rows := range heads {
		if at.tier == tier {
			visit(at.series, rows)
		}
	}
}
