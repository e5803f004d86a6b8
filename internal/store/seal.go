package store

import (
	"fmt"
	"maps"

	"gorm.io/gorm"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
)

const (
	sealRows  = 250_000 // a head with this many rows over all series is worth sealing
	sealBytes = 16 << 20
	fullChunk = 4096 // rows of a full chunk
)

// SealDue reports whether the head or the journal has grown enough to be sealed.
func (s *Store) SealDue() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.headRows >= sealRows || s.journal.bytes >= sealBytes
}

// Unsealed is how many rows the head holds.
func (s *Store) Unsealed() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.headRows
}

// Seal moves every row of the head into chunks and empties the journal, in one
// transaction with the given states. Queries go on meanwhile. A series' last chunk
// is filled up before a new one begins, and chunks that late rows fall into are
// written again, so chunks never overlap.
func (s *Store) Seal(states ...State) error {
	s.write.Lock()
	defer s.write.Unlock()
	s.mu.RLock()
	heads, last := maps.Clone(s.heads), s.journal.last
	s.mu.RUnlock()

	err := s.db.Transaction(func(tx *gorm.DB) error {
		for at, rows := range heads {
			if err := s.sealPlace(tx, at, rows); err != nil {
				return err
			}
		}
		if err := s.saveLatest(tx, heads); err != nil {
			return err
		}
		for _, state := range states {
			if err := tx.Save(&stateRow{Name: state.Name, Payload: state.Payload}).Error; err != nil {
				return fmt.Errorf("writing state %s: %w", state.Name, err)
			}
		}
		return tx.Where("id <= ?", last).Delete(&journalRow{}).Error
	})
	if err != nil {
		return fmt.Errorf("sealing the store's head: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.heads = map[place]column.Block{}
	s.headRows, s.journal.bytes = 0, 0
	return nil
}

// sealPlace writes the rows of one series and tier, together with those of the
// chunks they overlap or continue.
func (s *Store) sealPlace(tx *gorm.DB, at place, rows column.Block) error {
	if rows.Len() == 0 {
		return nil
	}
	touched, err := touchedChunks(tx, at, rows.Times[0], rows.Times[rows.Len()-1])
	if err != nil {
		return err
	}
	var older column.Block
	for _, c := range touched {
		block, err := chunk.Decode(c.Payload)
		if err != nil {
			s.noteDamage("chunks", c.ID, err)
			continue // stays where it is, for whoever can mend it
		}
		older.Append(block)
		if err := tx.Delete(&chunkRow{}, c.ID).Error; err != nil {
			return err
		}
	}
	merged := column.Merge(older, rows)
	for i := 0; i < merged.Len(); i += fullChunk {
		if err := writeChunk(tx, at, merged.Rows(i, min(i+fullChunk, merged.Len()))); err != nil {
			return err
		}
	}
	return nil
}

// touchedChunks are those that rows from first to last overlap or, when there are
// none, the one just before them if it has room left.
func touchedChunks(tx *gorm.DB, at place, first, last int64) ([]chunkRow, error) {
	var touched []chunkRow
	of := tx.Where("series = ? AND tier = ?", at.series, int64(at.tier)).Session(&gorm.Session{})
	if err := of.Where("start <= ? AND `end` >= ?", last, first).Order("start").Find(&touched).Error; err != nil || len(touched) > 0 {
		return touched, err
	}
	err := of.Where("start < ?", first).Order("start desc").Limit(1).Find(&touched).Error
	if len(touched) == 1 && touched[0].Rows >= fullChunk {
		touched = nil
	}
	return touched, err
}

func writeChunk(tx *gorm.DB, at place, rows column.Block) error {
	payload, err := chunk.Encode(rows)
	if err != nil {
		return err
	}
	return tx.Create(&chunkRow{
		Series: at.series, Tier: int64(at.tier), Start: rows.Times[0], End: rows.Times[rows.Len()-1], Rows: rows.Len(), Payload: payload,
	}).Error
}

// saveLatest writes what the catalogue learned from the head's rows.
func (s *Store) saveLatest(tx *gorm.DB, heads map[place]column.Block) error {
	done := map[uint32]bool{}
	for at := range heads {
		known, ok := s.Get(at.series)
		if !ok || done[at.series] {
			continue
		}
		done[at.series] = true
		err := tx.Model(&seriesRow{ID: at.series}).Select("first_seen", "last_time", "last_value").
			Updates(seriesRow{FirstSeen: known.FirstSeen, LastTime: known.LastTime, LastValue: known.LastValue}).Error
		if err != nil {
			return fmt.Errorf("writing the catalogue: %w", err)
		}
	}
	return nil
}
