package engine

import (
	"context"
	"fmt"
	"math"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// dropAtOnce is how many chunks one transaction drops.
const dropAtOnce = 100

// Drop removes the chunks of a series and tier that end before a time, whole ones
// only and a few at a time, so that nobody waits for it. It says how much went. What a
// companion still needs stays, unless it is from before giveUp.
func (e *Engine) Drop(ctx context.Context, id uint32, tier series.Tier, before time.Time, giveUp time.Time) (rows int, err error) {
	until := e.droppable(marks.Of{Series: id, Tier: tier}, before, giveUp)
	for ctx.Err() == nil {
		var old []sqlite.Chunk
		err := e.file.Reader().Select("id", "row_count").Where("series = ? AND tier = ? AND first_at < ? AND last_at < ?",
			id, int64(tier), until, until).
			Order("first_at").Limit(dropAtOnce).Find(&old).Error
		if err != nil {
			return rows, err
		}
		if len(old) == 0 {
			late, err := e.cutPatches(ctx, seriesTier{id, tier}, until)
			return rows + late, err
		}
		gone, err := e.dropChunks(old)
		if err != nil {
			return rows, fmt.Errorf("dropping old rows of series %d: %w", id, err)
		}
		rows += gone
	}
	return rows, ctx.Err()
}

// cutPatches drops the rows of patches of which no chunk is left.
func (e *Engine) cutPatches(ctx context.Context, at seriesTier, before int64) (rows int, err error) {
	if of, ok := e.patchedExtent(at); !ok || of.first >= before {
		return 0, nil
	}
	e.sealing.Lock()
	defer e.sealing.Unlock()
	db := e.file.Reader().WithContext(ctx)
	first, err := sqlite.ChunkFrom(db, at.series, int64(at.tier), math.MinInt64)
	if err != nil {
		return 0, err
	}
	if first.ID != 0 {
		before = min(before, first.FirstAt)
	}
	if of, ok := e.patchedExtent(at); !ok || of.first >= before {
		return 0, nil
	}
	patches, err := sqlite.PatchesBetween(db, at.series, int64(at.tier), math.MinInt64, before-1)
	if err != nil {
		return 0, err
	}
	var old []uint64
	var fresh []sqlite.Patch
	for _, p := range patches {
		block, broken, err := mergedPatches([]sqlite.Patch{p}, rollup.NeedAll)
		if err == nil {
			err = e.file.SetAside(broken)
		}
		if err != nil {
			return 0, err
		}
		left := block.Between(before, math.MaxInt64)
		again, err := makePatches(at, left)
		if err != nil {
			return 0, err
		}
		for i := range again {
			again[i].ID = p.ID // what it hides, and what hides it, stays so; it was one, and is one
		}
		old, fresh, rows = append(old, p.ID), append(fresh, again...), rows+block.Len()-left.Len()
	}
	return rows, e.file.Write(func(w sqlite.Writer) error {
		err := w.Transaction(func(tx *gorm.DB) error { return sqlite.ReplacePatches(tx, old, fresh) })
		if err != nil {
			return fmt.Errorf("dropping old rows of series %d: %w", at.series, err)
		}
		heads, err := sqlite.PatchHeads(w.DB(), at.series, int64(at.tier))
		if err != nil {
			return err
		}
		e.alter(func(m *memory) { m.patchedNow(at, heads) })
		return nil
	})
}

// droppable returns how far rows may be dropped for the companions' sake.
func (e *Engine) droppable(of marks.Of, before, giveUp time.Time) int64 {
	until := before.UnixNano()
	for _, c := range e.companions {
		until = min(until, c.Droppable(of, before, giveUp))
	}
	return until
}

func (e *Engine) dropChunks(old []sqlite.Chunk, also ...sqlite.Change) (rows int, err error) {
	// A seal may be making a new chunk of one of these, and must not bring it back half:
	// whoever changes chunks holds sealing.
	e.sealing.Lock()
	defer e.sealing.Unlock()
	ids := make([]uint64, len(old))
	for i, c := range old {
		ids[i] = c.ID
		rows += c.Count
	}
	return rows, e.file.Write(func(w sqlite.Writer) error {
		return w.Transaction(deleteChunks(ids, also))
	})
}

// DropSketches removes a series' sketches of windows that begin before a time, a day's
// worth or so at once.
func (e *Engine) DropSketches(ctx context.Context, series uint32, before, giveUp time.Time) error {
	until := e.droppable(marks.Of{Kind: marks.Sketches, Series: series}, before, giveUp)
	for ctx.Err() == nil {
		gone, err := e.dropSketches(series, until)
		if err != nil || gone == 0 {
			return err
		}
	}
	return ctx.Err()
}

func (e *Engine) dropSketches(series uint32, before int64) (gone int64, err error) {
	err = e.file.Write(func(w sqlite.Writer) error {
		done := w.DB().Exec("DELETE FROM sketches WHERE series = ? AND start IN (SELECT start FROM sketches WHERE series = ? AND start < ? LIMIT ?)",
			series, series, before, dropAtOnce)
		gone = done.RowsAffected
		return done.Error
	})
	return gone, err
}
