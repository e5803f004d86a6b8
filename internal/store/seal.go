package store

import (
	"fmt"

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

// Unsealed is how many rows are not in chunks yet.
func (s *Store) Unsealed() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	rows := s.headRows
	for _, b := range s.frozen {
		rows += b.Len()
	}
	return rows
}

// Seal moves every row of the head into chunks and empties the journal, in one
// transaction with the given states, which must be of the moment of the call. Queries
// and Appends go on meanwhile. A series' last chunk is filled up before a new one
// begins, and chunks that late rows fall into are written again, so chunks never
// overlap.
//
// begun, unless nil, is closed once it is settled which rows go; those that come after
// stay in the journal.
func (s *Store) Seal(begun chan<- struct{}, states ...State) error {
	s.sealing.Lock()
	defer s.sealing.Unlock()
	last := s.freeze()
	if begun != nil {
		close(begun)
	}
	err := s.sealFrozen(last, states)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		s.thaw()
		return fmt.Errorf("sealing the store's head: %w", err)
	}
	s.frozen = nil
	return nil
}

// freeze sets the head aside and begins a new one; it is the last journal row whose
// rows are in it.
func (s *Store) freeze() (last uint64) {
	s.write.Lock()
	defer s.write.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.frozen, s.heads = s.heads, map[place]column.Block{}
	s.headRows, s.journal.bytes = 0, 0
	return s.journal.last
}

// thaw puts frozen rows back under those that came since. Callers hold mu.
func (s *Store) thaw() {
	for at, rows := range s.frozen {
		before := s.heads[at].Len()
		s.heads[at] = column.Merge(rows, s.heads[at])
		s.headRows += s.heads[at].Len() - before
		s.journal.bytes += 8 * rows.Len() // about; it only says when to seal again
	}
	s.frozen = nil
}

// sealFrozen encodes the frozen rows without holding up Appends, then puts them into
// the file. Only Seal changes frozen and chunks, so both stand still meanwhile.
func (s *Store) sealFrozen(last uint64, states []State) error {
	var old []uint64
	var fresh []chunkRow
	for at, rows := range s.frozen {
		replaced, chunks, err := s.chunksFor(at, rows)
		if err != nil {
			return err
		}
		old, fresh = append(old, replaced...), append(fresh, chunks...)
	}
	s.write.Lock()
	defer s.write.Unlock()
	return s.db.Transaction(func(tx *gorm.DB) error {
		for _, id := range old {
			if err := tx.Delete(&chunkRow{}, id).Error; err != nil {
				return err
			}
		}
		if err := tx.CreateInBatches(fresh, 100).Error; err != nil {
			return err
		}
		if err := s.saveLatest(tx); err != nil {
			return err
		}
		for _, state := range states {
			if err := tx.Save(&stateRow{Name: state.Name, Payload: state.Payload}).Error; err != nil {
				return fmt.Errorf("writing state %s: %w", state.Name, err)
			}
		}
		return tx.Where("id <= ?", last).Delete(&journalRow{}).Error
	})
}

// chunksFor makes the chunks of rows of one series and tier, together with those of
// the chunks they overlap or continue, which they replace.
func (s *Store) chunksFor(at place, rows column.Block) (replaced []uint64, fresh []chunkRow, err error) {
	if rows.Len() == 0 {
		return nil, nil, nil
	}
	touched, err := touchedChunks(s.db, at, rows.Times[0], rows.Times[rows.Len()-1])
	if err != nil {
		return nil, nil, err
	}
	var older column.Block
	for _, c := range touched {
		block, err := chunk.Decode(c.Payload)
		if err != nil {
			s.noteDamage("chunks", c.ID, err)
			continue // stays where it is, for whoever can mend it
		}
		older.Append(block)
		replaced = append(replaced, c.ID)
	}
	merged := column.Merge(older, rows)
	for i := 0; i < merged.Len(); i += fullChunk {
		part := merged.Rows(i, min(i+fullChunk, merged.Len()))
		payload, err := chunk.Encode(part)
		if err != nil {
			return nil, nil, err
		}
		fresh = append(fresh, chunkRow{
			Series: at.series, Tier: int64(at.tier), Start: part.Times[0], End: part.Times[part.Len()-1], Rows: part.Len(), Payload: payload,
		})
	}
	return replaced, fresh, nil
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

// saveLatest writes what the catalogue knows of the frozen rows' series.
func (s *Store) saveLatest(tx *gorm.DB) error {
	done := map[uint32]bool{}
	for at := range s.frozen {
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
