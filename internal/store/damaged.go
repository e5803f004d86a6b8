package store

import (
	"fmt"

	"gorm.io/gorm"
)

// Damaged is how many rows could not be read and were set aside, and how often
// something was missing at the start.
func (s *Store) Damaged() uint64 {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.damaged
}

func (s *Store) countDamaged() error {
	var n int64
	if err := s.db.Model(&damagedRow{}).Count(&n).Error; err != nil {
		return fmt.Errorf("counting what is damaged: %w", err)
	}
	s.damaged = uint64(n)
	return nil
}

// miss records what the store as a whole lacks.
func (s *Store) miss(reasons []string) error {
	for _, reason := range reasons {
		s.log.Error("the store is not complete", "missing", reason)
		if err := s.db.Create(&damagedRow{Place: "store", Found: s.judge.Now().UnixNano(), Reason: reason}).Error; err != nil {
			return fmt.Errorf("noting what is missing: %w", err)
		}
	}
	return nil
}

// Missing says what the store as a whole was found to lack, at this start or an earlier one.
func (s *Store) Missing() ([]string, error) {
	var out []string
	err := s.reader.Model(&damagedRow{}).Where("place = ?", "store").Order("id").Pluck("reason", &out).Error
	if err != nil {
		return nil, fmt.Errorf("reading what is missing: %w", err)
	}
	return out, nil
}

// setAside moves rows that cannot be read out of their tables, for whoever can mend
// them. They come with the id they have there.
func (s *Store) setAside(broken []damagedRow) error {
	if len(broken) == 0 {
		return nil
	}
	for _, b := range broken {
		s.log.Error("a damaged row of the store is set aside", "table", b.Place, "id", b.ID, "series", b.Series, "rows", b.Count, "error", b.Reason)
	}
	s.write.Lock()
	defer s.write.Unlock()
	moved := 0
	err := s.db.Transaction(func(tx *gorm.DB) error {
		moved = 0
		for _, b := range broken {
			gone := tx.Table(b.Place).Where("id = ?", b.ID).Delete(nil)
			if gone.Error != nil {
				return gone.Error
			}
			if gone.RowsAffected == 0 {
				continue // someone else was first
			}
			moved++
			b.ID, b.Found = 0, s.judge.Now().UnixNano()
			if err := tx.Create(&b).Error; err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("setting damaged rows aside: %w", err)
	}
	s.mu.Lock()
	s.damaged += uint64(moved)
	s.mu.Unlock()
	return nil
}

// damage is a chunk as it is set aside.
func (c chunkRow) damage(cause error) damagedRow {
	raw := append([]byte(nil), c.Whole...)
	for _, part := range [][]byte{c.Step0, c.Step1, c.Part0, c.Part1, c.Part2, c.Part3} {
		raw = append(raw, part...)
	}
	return damagedRow{ID: c.ID, Place: "chunks", Reason: cause.Error(), Series: c.Series, Tier: c.Tier, FirstAt: c.FirstAt, LastAt: c.LastAt, Count: c.Count, Raw: raw}
}
