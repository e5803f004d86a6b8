package store

import (
	"fmt"
	"time"
)

// Parcel is one encoded batch of summaries that waits in the outbox of an uplink.
// Sequence numbers of an uplink rise by one from parcel to parcel.
type Parcel struct {
	Uplink  string
	Seq     uint64
	Rows    int // summaries in it
	Payload []byte
}

// Backlog is what waits in an outbox.
type Backlog struct {
	Parcels int
	Rows    int
	First   uint64 // lowest sequence number waiting; 0 when nothing waits
	Oldest  time.Time
}

// Waiting is the parcels of an uplink from sequence number seq on, in order, up to
// most of them and about maxBytes together, but at least one if there is any.
func (s *Store) Waiting(uplink string, seq uint64, most, maxBytes int) ([]Parcel, error) {
	rows, err := s.db.Model(&outboxRow{}).Where("uplink = ? AND seq >= ?", uplink, seq).Order("seq").Limit(most).Rows()
	if err != nil {
		return nil, fmt.Errorf("reading the outbox of %s: %w", uplink, err)
	}
	defer rows.Close()
	var out []Parcel
	for size := 0; size < maxBytes && rows.Next(); {
		var r outboxRow
		if err := s.db.ScanRows(rows, &r); err != nil {
			return nil, fmt.Errorf("reading the outbox of %s: %w", uplink, err)
		}
		size += len(r.Payload)
		if len(out) > 0 && size > maxBytes {
			break
		}
		out = append(out, Parcel{Uplink: r.Uplink, Seq: r.Seq, Rows: r.Rows, Payload: r.Payload})
	}
	return out, rows.Err()
}

// Acknowledge drops the parcels of an uplink up to and with cursor.Seq and moves
// the cursor there.
func (s *Store) Acknowledge(uplink string, cursor Cursor) error {
	s.write.Lock()
	defer s.write.Unlock()
	tx := s.db.Begin()
	defer tx.Rollback()
	if err := tx.Where("uplink = ? AND seq <= ?", uplink, cursor.Seq).Delete(&outboxRow{}).Error; err != nil {
		return fmt.Errorf("clearing the outbox of %s: %w", uplink, err)
	}
	if err := tx.Save(cursor.row()).Error; err != nil {
		return fmt.Errorf("writing the cursor of %s: %w", uplink, err)
	}
	return tx.Commit().Error
}

// ClearOutbox drops all parcels of an uplink, as before they are made anew.
func (s *Store) ClearOutbox(uplink string) error {
	s.write.Lock()
	defer s.write.Unlock()
	if err := s.db.Where("uplink = ?", uplink).Delete(&outboxRow{}).Error; err != nil {
		return fmt.Errorf("clearing the outbox of %s: %w", uplink, err)
	}
	return nil
}

// Backlog is what waits in the outbox of an uplink.
func (s *Store) Backlog(uplink string) (Backlog, error) {
	var b struct {
		Parcels, Rows int
		First         uint64
		Oldest        int64
	}
	err := s.db.Model(&outboxRow{}).Where("uplink = ?", uplink).
		Select("count(*) AS parcels, coalesce(sum(rows), 0) AS rows, coalesce(min(seq), 0) AS first, coalesce(min(created), 0) AS oldest").Scan(&b).Error
	if err != nil {
		return Backlog{}, fmt.Errorf("reading the outbox of %s: %w", uplink, err)
	}
	out := Backlog{Parcels: b.Parcels, Rows: b.Rows, First: b.First}
	if b.Oldest > 0 {
		out.Oldest = time.Unix(0, b.Oldest).UTC()
	}
	return out, nil
}

// LastSeq is the highest sequence number in the outbox of an uplink; 0 when empty.
func (s *Store) LastSeq(uplink string) (uint64, error) {
	var seq uint64
	err := s.db.Model(&outboxRow{}).Where("uplink = ?", uplink).Select("coalesce(max(seq), 0)").Scan(&seq).Error
	if err != nil {
		return 0, fmt.Errorf("reading the outbox of %s: %w", uplink, err)
	}
	return seq, nil
}
