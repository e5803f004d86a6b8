package store

import (
	"context"
	"fmt"
	"time"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/rollup"
)

// dropAtOnce is how many chunks one transaction drops.
const dropAtOnce = 100

// Drop removes the chunks of a series and tier that end before a time, whole ones
// only and a few at a time, so that nobody waits for it. It says how much went. What an
// uplink still has to send stays, unless it is from before giveUp.
func (s *Store) Drop(ctx context.Context, id uint32, tier rollup.Tier, before time.Time, giveUp time.Time) (rows int, err error) {
	until := s.unsent(marks.Of{Series: id, Tier: tier}, before, giveUp)
	for ctx.Err() == nil {
		var old []chunkRow
		err := s.reader.Select("id", "row_count").Where("series = ? AND tier = ? AND first_at < ? AND last_at < ?", id, int64(tier), until, until).
			Order("first_at").Limit(dropAtOnce).Find(&old).Error
		if err != nil || len(old) == 0 {
			return rows, err
		}
		gone, err := s.dropChunks(old)
		if err != nil {
			return rows, fmt.Errorf("dropping old rows of series %d: %w", id, err)
		}
		rows += gone
	}
	return rows, ctx.Err()
}

// unsent is how far rows may be dropped for the uplinks' sake: to before, or to what they
// have not sent yet, but that only back to giveUp. A zero giveUp gives up nothing.
func (s *Store) unsent(of marks.Of, before, giveUp time.Time) int64 {
	until := before.UnixNano()
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, o := range s.outboxes {
		first := o.unsent(of)
		if !giveUp.IsZero() && first < giveUp.UnixNano() && first < until {
			first = min(until, giveUp.UnixNano())
			o.giveUp(of, first)
		}
		until = min(until, first)
	}
	return until
}

func (s *Store) dropChunks(old []chunkRow) (rows int, err error) {
	// A seal may be making a new chunk of one of these, and must not bring it back half:
	// whoever changes chunks holds sealing.
	s.sealing.Lock()
	defer s.sealing.Unlock()
	s.write.Lock()
	defer s.write.Unlock()
	ids := make([]uint64, len(old))
	for i, c := range old {
		ids[i] = c.ID
		rows += c.Count
	}
	return rows, s.db.Where("id IN ?", ids).Delete(&chunkRow{}).Error
}
