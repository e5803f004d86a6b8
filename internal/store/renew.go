package store

import (
	"errors"
	"fmt"
	"math"

	"gorm.io/gorm"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// renewal is the part of a seal that goes into one transaction: new chunks, and old
// ones that they replace.
type renewal struct {
	store  *Store
	places int
	old    []uint64
	fresh  []chunkRow
	bytes  int // of fresh
	broken []damagedRow
	series map[uint32]bool

	thinned map[uint32]thinnedSeries // what is new of series whose readings were thinned
}

// renew makes chunks of rows of one series and tier. Each chunk that rows fall into is
// written again by itself; rows between chunks, or after the last, become new ones.
func (r *renewal) renew(at seriesTier, rows column.Block, def *series.Definition) error {
	done := int64(math.MinInt64) // rows up to here are in chunks that are not in the file yet
	for rows.Len() > 0 {
		n, err := r.stretch(at, rows, done, def)
		if err != nil {
			return err
		}
		done = rows.Times[n-1]
		rows = rows.Rows(n, rows.Len())
		if r.bytes >= mostAtOnce {
			if err := r.put(); err != nil {
				return err
			}
		}
	}
	return nil
}

// stretch renews what the first rows are about, one chunk or one gap between two, and
// says how many rows that were.
func (r *renewal) stretch(at seriesTier, rows column.Block, done int64, def *series.Definition) (int, error) {
	r.about(at.series)
	next, err := chunkFrom(r.store.reader, at, rows.Times[0])
	if err != nil {
		return 0, err
	}
	var touched []chunkRow
	n := rows.Len()
	switch {
	case next.ID == 0: // nothing is as new
		touched, err = r.smallBefore(at, rows.Times[0], rows.Len(), done)
	case next.FirstAt <= rows.Times[0]: // it takes along what comes between it and the one after
		after, err := chunkFrom(r.store.reader, at, next.LastAt+1)
		if err != nil {
			return 0, err
		}
		if after.ID != 0 {
			n = rows.Search(after.FirstAt)
		}
		touched = []chunkRow{next}
	default:
		n = rows.Search(next.FirstAt)
		touched, err = r.smallBefore(at, rows.Times[0], n, done)
	}
	if err != nil {
		return 0, err
	}
	older, err := r.replace(touched, def)
	if err != nil {
		return 0, err
	}
	return n, r.addChunks(at, column.Merge(older, rows.Rows(0, n)), def)
}

// about notes that a series has other chunks.
func (r *renewal) about(id uint32) {
	if r.series == nil {
		r.series = map[uint32]bool{}
	}
	r.series[id] = true
}

// replace takes chunks away, and is their rows.
func (r *renewal) replace(chunks []chunkRow, def *series.Definition) (rows column.Block, err error) {
	for _, c := range chunks {
		block, err := r.store.open(&c)
		if errors.Is(err, chunk.ErrDamaged) {
			r.broken = append(r.broken, c.damage(err))
			continue
		}
		if err != nil {
			return rows, fmt.Errorf("%s: %w", def.Path, err)
		}
		rows.Append(block)
		r.old = append(r.old, c.ID)
	}
	return rows, nil
}

// addChunks makes new chunks.
func (r *renewal) addChunks(at seriesTier, rows column.Block, def *series.Definition) error {
	fresh, err := makeChunks(at, rows, def)
	if err != nil {
		return fmt.Errorf("%s: %w", def.Path, err)
	}
	for i := range fresh {
		r.bytes += fresh[i].size()
	}
	r.fresh = append(r.fresh, fresh...)
	return nil
}

// open reads a chunk whole and checks all of it.
func (s *Store) open(c *chunkRow) (column.Block, error) {
	if err := s.reader.Take(c, c.ID).Error; err != nil {
		return column.Block{}, fmt.Errorf("chunk %d: %w", c.ID, err)
	}
	if err := c.check(); err != nil {
		return column.Block{}, err
	}
	return c.rows(allParts, rollup.NeedAll, nil)
}

// smallBefore are the small chunks just before count rows that no chunk overlaps, the first of which
// is of the time first: each that is
// not much larger than all that would come after it. So every row is written again only
// as often as chunks can grow by that, and a series has few small ones.
func (r *renewal) smallBefore(at seriesTier, first int64, count int, done int64) ([]chunkRow, error) {
	const growth = 3
	var touched []chunkRow
	for {
		before, err := chunkBefore(r.store.reader, at, first)
		if err != nil || before.ID == 0 || before.FirstAt <= done || before.Count >= fullChunk || before.Count > growth*count || nextMonth(before.FirstAt) != nextMonth(first) {
			return touched, err
		}
		touched = append([]chunkRow{before}, touched...)
		first, count = before.FirstAt, count+before.Count
	}
}

// put writes what is gathered, and begins anew.
func (r *renewal) put() error {
	part := *r
	*r = renewal{store: r.store}
	s := r.store
	if err := s.setAside(part.broken); err != nil {
		return err
	}
	if len(part.fresh) == 0 {
		return nil
	}
	s.write.Lock()
	defer s.write.Unlock()
	for i := range part.fresh {
		s.nextChunk++ // never used again: a scan may still know the old one
		part.fresh[i].ID = s.nextChunk
	}
	err := s.db.Transaction(func(tx *gorm.DB) error {
		for _, id := range part.old {
			if err := tx.Exec("DELETE FROM chunks WHERE id = ?", id).Error; err != nil {
				return err
			}
		}
		if err := tx.CreateInBatches(part.fresh, 50).Error; err != nil {
			return err
		}
		return s.saveLatest(tx, part.series, part.thinned)
	})
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.renewals++
	for id, t := range part.thinned {
		if known := s.catalogue.get(id); known != nil {
			known.ThinnedTo, known.Thinned = t.ThinnedTo, t.Thinned
		}
	}
	for _, c := range part.fresh {
		at := seriesTier{c.Series, rollup.Tier(c.Tier)}
		if until, known := s.sealedTo[at]; known {
			s.sealedTo[at] = max(until, c.LastAt)
		}
	}
	return nil
}
