package engine

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"

	"gorm.io/gorm"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// renewal is the part of a seal that goes into one transaction: new chunks, and old
// ones that they replace.
type renewal struct {
	engine *Engine
	ctx    context.Context // of the seal
	db     *gorm.DB
	near   neighbours
	places int
	old    []uint64
	fresh  []sqlite.Chunk
	bytes  int // of fresh
	broken []sqlite.Damaged
	series map[uint32]bool

	thinned map[uint32]thinnedSeries // what is new of series whose readings were thinned
	patches patching
}

// renew puts rows of one series and tier into chunks, and those into a patch that are too few to write a chunk
// again for them. Readings that are thinned are in chunks only: what they are compared with stands there.
func (r *renewal) renew(at seriesTier, rows column.Block, def *series.Definition) error {
	rows, patched := r.withoutPatched(at, rows)
	var few column.Block
	late := &few
	if at.tier == series.Readings && def.Thinning.Method != 0 {
		late = nil
	}
	if err := r.renewChunks(at, rows, def, late); err != nil {
		return err
	}
	if few = column.Merge(patched, few); few.Len() == 0 {
		return nil
	}
	return r.patch(at, few, def)
}

// renewChunks makes chunks of rows of one series and tier. Each chunk that rows fall into is
// written again by itself; rows between chunks, or after the last, become new ones. Rows that
// are too few for that are added to late, unless it is nil.
func (r *renewal) renewChunks(at seriesTier, rows column.Block, def *series.Definition, late *column.Block) error {
	done := int64(math.MinInt64) // rows up to here are in chunks that are not in the file yet
	for rows.Len() > 0 {
		n, err := r.stretch(at, rows, done, def, late)
		if err != nil {
			return err
		}
		done = rows.Times[n-1]
		rows = rows.Rows(n, rows.Len())
		if r.bytes >= mostAtOnce {
			if err := r.put(); err != nil {
				return err
			}
			r.near.changed(at)
		}
	}
	return nil
}

// stretch renews what the first rows are about, one chunk or one gap between two, and
// says how many rows that were.
func (r *renewal) stretch(at seriesTier, rows column.Block, done int64, def *series.Definition,
	late *column.Block) (int, error) {
	r.about(at.series)
	next, err := r.chunkFrom(at, rows.Times[0])
	if err != nil {
		return 0, err
	}
	var touched []sqlite.Chunk
	n := rows.Len()
	switch {
	case next.ID == 0: // nothing is as new
		touched, err = r.smallBefore(at, rows.Times[0], rows.Len(), done)
	case next.FirstAt <= rows.Times[0]: // it takes along what comes between it and the one after
		after, err := r.chunkFrom(at, next.LastAt+1)
		if err != nil {
			return 0, err
		}
		if late != nil {
			if few := forPatch(&next, after.ID == 0, rows); few > 0 {
				late.Append(rows.Rows(0, few))
				return few, nil
			}
		}
		if after.ID != 0 {
			n = rows.Search(after.FirstAt)
		}
		touched = []sqlite.Chunk{next}
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
	r.series[id] = true
}

// replace takes chunks away, and is their rows.
func (r *renewal) replace(chunks []sqlite.Chunk, def *series.Definition) (rows column.Block, err error) {
	for _, c := range chunks {
		block, err := r.open(&c)
		if errors.Is(err, chunk.ErrDamaged) {
			r.broken = append(r.broken, c.Damage(err))
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
		r.bytes += fresh[i].Size()
	}
	r.fresh = append(r.fresh, fresh...)
	return nil
}

// open reads a chunk whole and checks all of it.
func (r *renewal) open(c *sqlite.Chunk) (column.Block, error) {
	if whole := r.near.read[c.ID]; whole != nil {
		*c = *whole
	} else if err := c.ReadAll(r.db); err != nil {
		return column.Block{}, fmt.Errorf("chunk %d: %w", c.ID, err)
	}
	if err := check(c); err != nil {
		return column.Block{}, err
	}
	return rowsOf(c, allParts, rollup.NeedAll, nil)
}

// smallBefore returns the small chunks just before count rows that no chunk overlaps, the first of which
// is of the time first; see takenAlong. Those of before done are not in the file any more.
func (r *renewal) smallBefore(at seriesTier, first int64, count int, done int64) ([]sqlite.Chunk, error) {
	var before []sqlite.Chunk
	for t := first; ; {
		taken, more := takenAlong(before, first, count)
		if more {
			c, err := r.chunkBefore(at, t)
			if err != nil {
				return nil, err
			}
			if c.ID != 0 && c.FirstAt > done {
				before, t = append(before, c), c.FirstAt
				continue
			}
		}
		before = before[:taken]
		slices.Reverse(before)
		return before, nil
	}
}

// chunkBefore returns the last chunk that begins before t; its ID is 0 when there is none.
func (r *renewal) chunkBefore(at seriesTier, t int64) (sqlite.Chunk, error) {
	switch known, all := r.near.before(at, t); {
	case len(known) > 0:
		return known[0], nil
	case all:
		return sqlite.Chunk{}, nil
	}
	return sqlite.ChunkBefore(r.db, at.series, int64(at.tier), t)
}

// chunkFrom returns the chunk that t falls into or, without one, the next after it.
func (r *renewal) chunkFrom(at seriesTier, t int64) (sqlite.Chunk, error) {
	if last, known := r.near.of[at]; known && (len(last) == 0 || last[0].LastAt < t) {
		return sqlite.Chunk{}, nil // as most often
	}
	return sqlite.ChunkFrom(r.db, at.series, int64(at.tier), t)
}

func (e *Engine) newRenewal(ctx context.Context) *renewal {
	return &renewal{
		engine:  e,
		ctx:     ctx,
		db:      e.file.Reader().WithContext(ctx),
		series:  map[uint32]bool{},
		thinned: map[uint32]thinnedSeries{},
		patches: patching{now: map[seriesTier][]sqlite.Patch{}},
	}
}

// put writes what is gathered, and begins anew.
func (r *renewal) put() error {
	part, e := *r, r.engine
	*r = *e.newRenewal(r.ctx)
	r.near = part.near
	if err := e.file.SetAside(part.broken); err != nil {
		return err
	}
	if len(part.fresh)+len(part.patches.fresh)+len(part.patches.old) == 0 {
		return nil
	}
	return e.file.Write(func(w sqlite.Writer) error {
		counts := e.numbers(w)
		for i := range part.fresh {
			counts.nextChunk++ // never used again: a scan may still know the old one
			part.fresh[i].ID = counts.nextChunk
		}
		for i := range part.patches.fresh {
			counts.nextPatch++
			part.patches.fresh[i].ID = counts.nextPatch
		}
		err := w.Transaction(func(tx *gorm.DB) error {
			if err := sqlite.ReplaceChunks(tx, part.old, part.fresh); err != nil {
				return err
			}
			if err := sqlite.ReplacePatches(tx, part.patches.old, part.patches.fresh); err != nil {
				return err
			}
			return e.saveLatest(tx, part.series, part.thinned)
		})
		if err != nil {
			return err
		}
		e.alter(func(m *memory) { m.renewed(part.fresh, part.thinned, part.patches.now) })
		return nil
	})
}

// renewed notes that other chunks are there.
func (m *memory) renewed(fresh []sqlite.Chunk, thinned map[uint32]thinnedSeries,
	patched map[seriesTier][]sqlite.Patch) {
	m.renewals++
	for id, t := range thinned {
		if known := m.catalogue.get(id); known != nil {
			known.ThinnedTo, known.Thinned = t.ThinnedTo, t.Thinned
		}
	}
	for _, c := range fresh {
		at := seriesTier{c.Series, series.Tier(c.Tier)}
		if until, known := m.sealedTo[at]; known {
			m.sealedTo[at] = max(until, c.LastAt)
		}
	}
	for at, patches := range patched {
		m.patchedNow(at, patches)
	}
}
