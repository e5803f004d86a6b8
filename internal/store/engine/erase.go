package engine

import (
	"context"
	"errors"
	"fmt"
	"math"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Erased counts the rows of a series that were erased, or would be.
type Erased struct{ Readings, Summaries int }

// ErrUnsealed says that rows to be erased are not sealed yet.
var ErrUnsealed = errors.New("rows to be erased are not sealed yet")

// Touched returns the time of the windows of a tier that reach into a time; of readings it is the time itself.
func Touched(tier series.Tier, from, to int64) (first, end int64) {
	if tier == series.Readings {
		return from, to
	}
	return tier.Start(from), tier.Start(to-1) + int64(tier)
}

// Erasable counts what Erase would erase.
func (e *Engine) Erasable(ctx context.Context, id uint32, from, to int64) (out Erased, err error) {
	err = e.eachTier(id, func(tier series.Tier) error {
		first, end := Touched(tier, from, to)
		var rows gathered
		if err := e.Scan(ctx, id, Wanted{Tier: tier, From: first, To: end, Need: rollup.Need(0), Keep: true}, &rows); err != nil {
			return err
		}
		out.count(tier, rows.rows.Len())
		return nil
	})
	return out, err
}

func (o *Erased) count(tier series.Tier, rows int) {
	if tier == series.Readings {
		o.Readings += rows
	} else {
		o.Summaries += rows
	}
}

func (e *Engine) eachTier(id uint32, do func(tier series.Tier) error) error {
	known, ok := e.Get(id)
	if !ok {
		return nil
	}
	for _, tier := range append([]series.Tier{series.Readings}, known.Tiers.All()...) {
		if err := do(tier); err != nil {
			return fmt.Errorf("%s, %s: %w", known.Path, tier, err)
		}
	}
	return nil
}

// Erase removes readings of a time, and all summaries of windows that reach into it, from what is sealed. Each tier is
// a transaction; should it end half way, it is done again.
func (e *Engine) Erase(ctx context.Context, id uint32, from, to int64) (out Erased, err error) {
	e.sealing.Lock()
	defer e.sealing.Unlock()
	err = e.eachTier(id, func(tier series.Tier) error {
		first, end := Touched(tier, from, to)
		if e.inTray(seriesTier{id, tier}, first, end).Len() > 0 {
			return ErrUnsealed
		}
		rows, err := e.eraseTier(ctx, seriesTier{id, tier}, first, end)
		out.count(tier, rows)
		return err
	})
	if err != nil {
		return out, err
	}
	first, end := Touched(series.Quarter, from, to)
	err = e.file.Write(func(w sqlite.Writer) error {
		return w.DB().Exec("DELETE FROM sketches WHERE series = ? AND start >= ? AND start < ?", id, first, end).Error
	})
	if err != nil {
		return out, err
	}
	return out, e.forgetLatest(ctx, id, from, to)
}

// eraseTier writes the chunks and patches of one series and tier again, without the rows of a time.
func (e *Engine) eraseTier(ctx context.Context, at seriesTier, from, to int64) (erased int, err error) {
	known, _ := e.Get(at.series)
	r := e.newRenewal(ctx)
	chunks, err := sqlite.ChunksBetween(r.db, at.series, int64(at.tier), from, to, nil, -1)
	if err != nil {
		return 0, err
	}
	for i := range chunks {
		rows, err := r.replace(chunks[i:i+1], &known.Definition)
		if err != nil {
			return 0, err
		}
		left := without(rows, from, to)
		if erased += rows.Len() - left.Len(); left.Len() > 0 {
			if err := r.addChunks(at, left, &known.Definition); err != nil {
				return 0, err
			}
		}
	}
	patches, err := sqlite.PatchesBetween(r.db, at.series, int64(at.tier), from, to-1)
	if err != nil {
		return 0, err
	}
	var old []uint64
	var fresh []sqlite.Patch
	for _, p := range patches {
		rows, broken, err := mergedPatches([]sqlite.Patch{p}, rollup.NeedAll)
		if err != nil {
			return 0, err
		}
		r.broken = append(r.broken, broken...)
		left := without(rows, from, to)
		erased += rows.Len() - left.Len()
		again, err := makePatches(at, left)
		if err != nil {
			return 0, err
		}
		for i := range again {
			again[i].ID = p.ID // what it hides, and what hides it, stays so; it was one, and is one
		}
		old, fresh = append(old, p.ID), append(fresh, again...)
	}
	if err := e.file.SetAside(r.broken); err != nil {
		return 0, err
	}
	if len(r.old)+len(old) == 0 {
		return 0, nil
	}
	return erased, e.file.Write(func(w sqlite.Writer) error {
		counts := e.numbers(w)
		for i := range r.fresh {
			counts.nextChunk++ // never used again: a scan may still know the old one
			r.fresh[i].ID = counts.nextChunk
		}
		err := w.Transaction(func(tx *gorm.DB) error {
			if err := sqlite.ReplaceChunks(tx, r.old, r.fresh); err != nil {
				return err
			}
			return sqlite.ReplacePatches(tx, old, fresh)
		})
		if err != nil {
			return err
		}
		heads, err := sqlite.PatchHeads(w.DB(), at.series, int64(at.tier))
		if err != nil {
			return err
		}
		e.alter(func(m *memory) {
			m.renewed(r.fresh, nil, map[seriesTier][]sqlite.Patch{at: heads})
			delete(m.sealedTo, at) // it may end earlier
		})
		return nil
	})
}

// without returns rows but for those of a time.
func without(rows column.Block, from, to int64) column.Block {
	return column.Merge(rows.Between(math.MinInt64, from), rows.Between(to, math.MaxInt64))
}

// forgetLatest finds the latest value of a series again when it was erased.
func (e *Engine) forgetLatest(ctx context.Context, id uint32, from, to int64) error {
	known, ok := e.Get(id)
	if !ok || known.LastTime < from || known.LastTime >= to {
		return nil
	}
	e.alter(func(m *memory) {
		if s := m.catalogue.get(id); s != nil {
			s.FirstSeen, s.LastTime, s.LastValue = 0, 0, 0
		}
	})
	return e.recall(ctx, id)
}
