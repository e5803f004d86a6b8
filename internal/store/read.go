package store

import (
	"fmt"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
)

// Read is the rows of one series and tier with from <= time < to. The block may
// share memory with the store and must not be changed.
func (s *Store) Read(series uint32, tier rollup.Tier, from, to int64) (column.Block, error) {
	// The head first: a Seal in between moves rows from there to the chunks, where
	// they are then found a second time, which is harmless.
	s.mu.RLock()
	at := place{series, tier}
	head := column.Merge(s.frozen[at].Between(from, to), s.heads[at].Between(from, to))
	s.mu.RUnlock()

	var rows []chunkRow
	err := s.db.Where("series = ? AND tier = ? AND start < ? AND `end` >= ?", series, int64(tier), to, from).
		Order("start").Find(&rows).Error
	if err != nil {
		return column.Block{}, fmt.Errorf("reading series %d: %w", series, err)
	}
	var sealed column.Block
	for _, r := range rows {
		block, err := chunk.Decode(r.Payload)
		if err != nil {
			s.noteDamage("chunks", r.ID, err)
			continue
		}
		sealed.Append(block.Between(from, to))
	}
	return column.Merge(sealed, head), nil
}
