package engine

import (
	"math"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/thin"
	"nexocumula/internal/store/sqlite"
)

// thinnedSeries holds the changes of a seal to a series whose readings it thins.
type thinnedSeries struct {
	ThinnedTo int64
	Thinned   thin.Tally
}

// longestSettling bounds for how long readings are kept in full for late ones to come between.
const longestSettling = time.Hour

// Settling returns how long after a reading all of those before it are still here: twice as long as one
// speaks, so that what was missing for less than that, and so is no gap, can still come.
func Settling(def *series.Definition) time.Duration {
	return min(2*def.FreshFor+time.Minute, longestSettling)
}

// worthwhile is how many times as long as it settles a stretch must be before it is thinned: the end
// of it, which is not settled yet, is written again every time.
const worthwhile = 4

// thin renews what the readings of a series are about, and thins those that are settled: of
// before limit, and long enough before the newest.
func (r *renewal) thin(at seriesTier, rows column.Block, known Series, limit int64) error {
	def := &known.Definition
	if k := rows.Search(known.ThinnedTo); known.ThinnedTo != 0 && k > 0 { // they fill gaps, and stay
		if err := r.renew(at, rows.Rows(0, k), def); err != nil {
			return err
		}
		if rows = rows.Rows(k, rows.Len()); rows.Len() == 0 {
			return nil
		}
		if err := r.put(); err != nil { // what comes now may be about the same chunks
			return err
		}
		r.near.changed(at)
	}
	settling := int64(Settling(def))
	from := known.ThinnedTo
	if from == 0 {
		from = math.MinInt64
	}
	chunks, err := r.chunksFrom(at, from)
	if err != nil {
		return err
	}
	first, last := rows.Times[0], rows.Times[rows.Len()-1]
	if len(chunks) > 0 {
		first, last = min(first, chunks[0].FirstAt), max(last, chunks[len(chunks)-1].LastAt)
	}
	until := min(last-settling, limit)
	if def.Sketch { // it is of whole quarters of an hour
		until = series.Quarter.Start(until)
	}
	until = def.Tiers.Narrowest().Start(until)
	if until-max(first, from) < (worthwhile-1)*settling {
		return r.renew(at, rows, def)
	}
	older, err := r.replace(chunks, def)
	if err != nil {
		return err
	}
	if len(chunks) > 0 { // what the first are compared with may stand in a patch
		patched, broken, err := r.engine.patchedBetween(r.db, at, first, from, rollup.NeedAll)
		if err != nil {
			return err
		}
		r.broken = append(r.broken, broken...)
		older = column.Merge(older, patched)
	}
	all := column.Merge(older, rows)
	begin := all.Times[0] // which may go
	kept, tally, err := r.keep(at, all, from, until, def)
	if err != nil {
		return err
	}
	// What is thinned for good grows with the small chunks before it; the rest is a chunk of its own
	// until the next time.
	settled := kept.Rows(0, kept.Search(until))
	small, err := r.smallBefore(at, begin, settled.Len(), math.MinInt64)
	if err != nil {
		return err
	}
	before, err := r.replace(small, def)
	if err != nil {
		return err
	}
	if err := r.addChunks(at, column.Merge(before, settled), def); err != nil {
		return err
	}
	if err := r.addChunks(at, kept.Rows(settled.Len(), kept.Len()), def); err != nil {
		return err
	}
	r.about(at.series)
	r.thinned[at.series] = thinnedSeries{until, known.Thinned.Plus(tally)}
	if r.bytes >= mostAtOnce {
		return r.put()
	}
	return nil
}

// keep thins rows. What the first of them are compared with may stand in a chunk before.
func (r *renewal) keep(at seriesTier, rows column.Block, from, until int64, def *series.Definition) (column.Block, thin.Tally, error) {
	if from == math.MinInt64 || rows.Times[0] < from {
		kept, tally := thin.Thin(rows, from, until, def)
		return kept, tally, nil
	}
	t, v, ok, err := r.engine.LastBefore(r.ctx, at.series, series.Readings, from)
	if err != nil || !ok {
		kept, tally := thin.Thin(rows, from, until, def)
		return kept, tally, err
	}
	all := column.New(1, rows.Len()+1)
	all.Add(t, v)
	all.Append(rows)
	kept, tally := thin.Thin(all, from, until, def)
	return kept.Rows(1, kept.Len()), tally, nil
}

// chunksFrom returns all chunks with a reading of a time or later.
func (r *renewal) chunksFrom(at seriesTier, t int64) (out []sqlite.Chunk, err error) {
	for {
		c, err := r.chunkFrom(at, t)
		if err != nil || c.ID == 0 {
			return out, err
		}
		out = append(out, c)
		t = c.LastAt + 1
	}
}
