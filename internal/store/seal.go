package store

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
)

const (
	sealWeight  = 8 << 20 // bytes of the tray that are worth sealing
	sealJournal = 16 << 20
	mostInTray  = 2 * sealWeight // with a seal on its way, more has to wait
	atOnce      = 1000           // series and tiers that one transaction of a seal is about
	mostAtOnce  = 1 << 20        // bytes of chunks that it writes, or little more
)

// SealDue reports whether the tray or the journal has grown enough to be sealed.
func (s *Store) SealDue() bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.trayWeight >= sealWeight || s.journal.bytes >= sealJournal
}

// Seal moves every row of the tray into chunks, and then empties the journal in one
// transaction with the given states, which must be of the moment of the call. Queries
// and Appends go on meanwhile, and no transaction of it is long. Should it end half
// way, the rows are in chunks and in the journal, where they hide their equals.
//
// begun, unless nil, is closed once it is settled which rows go; those that come after
// stay in the journal.
func (s *Store) Seal(begun chan<- struct{}, states ...State) error {
	return s.seal(context.Background(), begun, nil, states)
}

// SealUntil is a Seal that ends with ctx, and leaves the rest to the journal.
func (s *Store) SealUntil(ctx context.Context, begun chan<- struct{}, states ...State) error {
	return s.seal(ctx, begun, nil, states)
}

// SealSettled is a Seal that thins the readings of series whose definition asks for it. settled
// says before which time nobody needs all readings of a series any more.
func (s *Store) SealSettled(ctx context.Context, begun chan<- struct{}, settled func(id uint32) int64, states ...State) error {
	return s.seal(ctx, begun, settled, states)
}

func (s *Store) seal(ctx context.Context, begun chan<- struct{}, settled func(id uint32) int64, states []State) error {
	s.sealing.Lock()
	defer s.sealing.Unlock()
	last := s.lift()
	if begun != nil {
		close(begun)
	}
	err := s.sealLeaving(ctx, last, settled, states)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		s.layBack()
		if err = fmt.Errorf("sealing the store: %w", err); ctx.Err() == nil {
			s.troubles["sealing"] = err.Error()
		}
	} else {
		delete(s.troubles, "sealing")
	}
	s.leaving = nil
	s.sealed.Broadcast()
	return err
}

// lift takes the tray away and puts an empty one there; last is the last journal row
// whose rows are in it.
func (s *Store) lift() (last uint64) {
	s.write.Lock()
	defer s.write.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.leaving, s.tray = s.tray, map[seriesTier]column.Block{}
	s.journal.most = s.journal.bytes
	s.trayRows, s.trayWeight, s.journal.bytes = 0, 0, 0
	s.journal.sketches = nil
	return s.journal.last
}

// layBack puts rows that could not be sealed back under those that came since. Callers
// hold mu.
func (s *Store) layBack() {
	for at, rows := range s.leaving {
		before := s.tray[at]
		merged := column.Merge(rows, before)
		s.tray[at] = merged
		s.trayRows += merged.Len() - before.Len()
		s.trayWeight += weight(merged) - weight(before)
		s.journal.bytes += 8 * rows.Len() // about; it only says when to seal again
	}
}

// sealLeaving encodes the rows that leave the tray without holding up Appends and puts
// them into the file, so many at a time. Only Seal changes leaving, and only retention
// changes chunks meanwhile.
//
// Series go in the order of their ids, so that a transaction writes neighbouring rows of the catalogue and
// neighbouring entries of the indexes, and each row once.
func (s *Store) sealLeaving(ctx context.Context, last uint64, settled func(id uint32) int64, states []State) error {
	part := renewal{store: s}
	places := slices.SortedFunc(maps.Keys(s.leaving), func(a, b seriesTier) int {
		return cmp.Or(cmp.Compare(a.series, b.series), cmp.Compare(a.tier, b.tier))
	})
	for _, at := range places {
		rows := s.leaving[at]
		if err := ctx.Err(); err != nil {
			return err
		}
		known, ok := s.Get(at.series)
		if !ok || rows.Len() == 0 {
			continue
		}
		if settled != nil && at.tier == rollup.Readings && known.Thinning != "" {
			if err := part.thin(at, rows, known, settled(at.series)); err != nil {
				return err
			}
		} else if err := part.renew(at, rows, &known.Definition); err != nil {
			return err
		}
		if part.places++; part.places >= atOnce {
			if err := part.put(); err != nil {
				return err
			}
		}
	}
	if err := part.put(); err != nil {
		return err
	}
	return s.emptyJournal(last, states)
}

const journalState = "journal"

// emptyJournal ends a seal. What the uplinks still have to send of the rows that go is
// saved with it: until now the journal said so.
func (s *Store) emptyJournal(last uint64, states []State) error {
	s.write.Lock()
	defer s.write.Unlock()
	states = append(states[:len(states):len(states)], State{Name: journalState, Payload: binary.AppendUvarint(nil, last)})
	marks := s.outboxChanges()
	err := s.db.Transaction(func(tx *gorm.DB) error {
		for _, state := range states {
			if err := put(tx, &stateRow{Name: state.Name, Payload: state.Payload}); err != nil {
				return fmt.Errorf("writing state %s: %w", state.Name, err)
			}
		}
		for _, m := range marks {
			if err := m.write(tx); err != nil {
				return err
			}
		}
		return tx.Where("id <= ?", last).Delete(&journalRow{}).Error
	})
	if err != nil {
		return err
	}
	for _, m := range marks {
		m.saved()
	}
	return nil
}

// saveLatest writes what the catalogue knows of the series' values. Should the journal
// stay, what it holds is taken in again, which changes nothing.
func (s *Store) saveLatest(tx *gorm.DB, ids map[uint32]bool, thinned map[uint32]thinnedSeries) error {
	for id := range maps.Keys(ids) {
		known, ok := s.Get(id)
		if !ok {
			continue
		}
		if t, ok := thinned[id]; ok {
			known.ThinnedTo, known.Thinned = t.ThinnedTo, t.Thinned
		}
		row := rowOf(known)
		if err := updateSeries(tx, row); err != nil {
			return fmt.Errorf("writing the catalogue: %w", err)
		}
	}
	return nil
}
