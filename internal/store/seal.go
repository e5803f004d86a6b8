package store

import (
	"fmt"
	"maps"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

const (
	sealRows     = 250_000 // a head with this many rows over all series is worth sealing
	sealBytes    = 16 << 20
	mostHeadRows = 8 * sealRows // with a seal on its way, more have to wait
	atOnce       = 200          // series and tiers that one transaction of a seal is about
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

// Seal moves every row of the head into chunks, and then empties the journal in one
// transaction with the given states, which must be of the moment of the call. Queries
// and Appends go on meanwhile, and no transaction of it is long. Should it end half
// way, the rows are in chunks and in the journal, where they hide their equals.
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
		err = fmt.Errorf("sealing the store's head: %w", err)
	}
	s.frozen = nil
	s.sealed.Broadcast()
	return err
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
}

// sealFrozen encodes the frozen rows without holding up Appends and puts them into the
// file, so many at a time. Only Seal changes frozen; chunks stand still meanwhile but
// for those that retention drops.
func (s *Store) sealFrozen(last uint64, states []State) error {
	var part renewal
	for at, rows := range s.frozen {
		known, ok := s.Get(at.series)
		if !ok || rows.Len() == 0 {
			continue
		}
		if err := s.renew(&part, at, rows, &known.Definition); err != nil {
			return err
		}
		if part.places++; part.places == atOnce {
			if err := s.put(part); err != nil {
				return err
			}
			part = renewal{}
		}
	}
	if err := s.put(part); err != nil {
		return err
	}
	s.write.Lock()
	defer s.write.Unlock()
	return s.db.Transaction(func(tx *gorm.DB) error {
		for _, state := range states {
			if err := tx.Save(&stateRow{Name: state.Name, Payload: state.Payload}).Error; err != nil {
				return fmt.Errorf("writing state %s: %w", state.Name, err)
			}
		}
		return tx.Where("id <= ?", last).Delete(&journalRow{}).Error
	})
}

// renewal is the part of a seal that goes into one transaction.
type renewal struct {
	places int
	old    []chunkRow
	fresh  []chunkRow
	broken []damagedRow
	series map[uint32]bool
}

// renew makes the chunks of rows of one series and tier, together with those of the
// chunks they overlap or continue, which they replace.
func (s *Store) renew(part *renewal, at place, rows column.Block, def *series.Definition) error {
	touched, err := touchedChunks(s.reader, at, rows)
	if err != nil {
		return err
	}
	var older column.Block
	for _, c := range touched {
		block, err := c.rows(allParts, rollup.NeedAll, nil)
		if err != nil {
			part.broken = append(part.broken, c.damage(err))
			continue
		}
		older.Append(block)
		part.old = append(part.old, c)
	}
	fresh, err := makeChunks(at, column.Merge(older, rows), def)
	if err != nil {
		return fmt.Errorf("%s: %w", def.Path, err)
	}
	part.fresh = append(part.fresh, fresh...)
	if part.series == nil {
		part.series = map[uint32]bool{}
	}
	part.series[at.series] = true
	return nil
}

// touchedChunks are those that the rows overlap and, when there are none, the small
// ones just before them: each that is not much larger than all that would go behind it.
// So every row is written again only as often as chunks can grow by that, and a series
// has few small ones.
func touchedChunks(tx *gorm.DB, at place, rows column.Block) ([]chunkRow, error) {
	const growth = 3
	first, last := rows.Times[0], rows.Times[rows.Len()-1]
	of := tx.Where("series = ? AND tier = ?", at.series, int64(at.tier)).Session(&gorm.Session{})
	var touched []chunkRow
	if err := of.Where("start <= ? AND `end` >= ?", last, first).Order("start").Find(&touched).Error; err != nil || len(touched) > 0 {
		return touched, err
	}
	count := rows.Len()
	for {
		var before chunkRow
		err := of.Select("id", "start", "rows").Where("start < ?", first).Order("start desc").Limit(1).Find(&before).Error
		if err != nil || before.ID == 0 || before.Rows >= fullChunk || before.Rows > growth*count || nextMonth(before.Start) != nextMonth(first) {
			return touched, err
		}
		if err := tx.Take(&before, before.ID).Error; err != nil {
			return touched, err
		}
		touched = append([]chunkRow{before}, touched...)
		first, count = before.Start, count+before.Rows
	}
}

// put writes a part of a seal.
func (s *Store) put(part renewal) error {
	if err := s.setAside(part.broken); err != nil {
		return err
	}
	if len(part.fresh) == 0 {
		return nil
	}
	s.write.Lock()
	defer s.write.Unlock()
	return s.db.Transaction(func(tx *gorm.DB) error {
		for _, c := range part.old {
			if err := tx.Exec("DELETE FROM chunks WHERE id = ?", c.ID).Error; err != nil {
				return err
			}
		}
		if err := tx.CreateInBatches(part.fresh, 50).Error; err != nil {
			return err
		}
		return s.saveLatest(tx, part.series)
	})
}

// saveLatest writes what the catalogue knows of the series' values. Should the journal
// stay, what it holds is taken in again, which changes nothing.
func (s *Store) saveLatest(tx *gorm.DB, ids map[uint32]bool) error {
	for id := range maps.Keys(ids) {
		known, ok := s.Get(id)
		if !ok {
			continue
		}
		err := tx.Exec("UPDATE series SET first_seen = ?, last_time = ?, last_value = ? WHERE id = ?", known.FirstSeen, known.LastTime, known.LastValue, id).Error
		if err != nil {
			return fmt.Errorf("writing the catalogue: %w", err)
		}
	}
	return nil
}
