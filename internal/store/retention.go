package store

import (
	"context"
	"fmt"

	"nexocumula/internal/core/rollup"
)

// dropAtOnce is how many chunks one transaction drops.
const dropAtOnce = 100

// Drop removes the chunks of a series and tier that end before a time, whole ones
// only and a few at a time, so that nobody waits for it. It says how much went.
func (s *Store) Drop(ctx context.Context, id uint32, tier rollup.Tier, before int64) (rows int, err error) {
	for ctx.Err() == nil {
		var old []chunkRow
		err := s.reader.Select("id", "rows").Where("series = ? AND tier = ? AND start < ? AND `end` < ?", id, int64(tier), before, before).
			Order("start").Limit(dropAtOnce).Find(&old).Error
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
		rows += c.Rows
	}
	return rows, s.db.Where("id IN ?", ids).Delete(&chunkRow{}).Error
}
