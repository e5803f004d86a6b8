package engine

import (
	"context"
	"math"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Read returns the rows of one series and tier with from <= time < to. The block may
// share memory with the store and must not be changed.
func (e *Engine) Read(ctx context.Context, series uint32, tier series.Tier, from, to int64) (column.Block, error) {
	var all gathered
	err := e.Scan(ctx, series, Wanted{Tier: tier, From: from, To: to, Need: rollup.NeedAll, Keep: true}, &all)
	return all.rows, err
}

// gathered is a sink that keeps all rows.
type gathered struct{ rows column.Block }

func (g *gathered) Rows(b column.Block, _ int64) error {
	if g.rows.Len() == 0 {
		g.rows = b
		return nil
	}
	g.rows.Append(b)
	return nil
}

func (g *gathered) Whole(int64, int64, rollup.Summary) error { return nil } // only comes when Cut allows it

// LastBefore returns the last reading before t that the rows of a tier, those with a time
// before t, tell of.
func (e *Engine) LastBefore(ctx context.Context, id uint32, tier series.Tier, t int64) (at int64, value float64, ok bool, err error) {
	of := seriesTier{id, tier}
	tray := e.inTray(of, -1<<62, t)
	patched, isPatched := e.patchedExtent(of)
	newest := int64(-1 << 62)
	if n := tray.Len(); n > 0 {
		newest = tray.Times[n-1]
		tray = tray.Rows(n-1, n)
	}
	c, err := sqlite.ChunkBefore(e.file.Reader().WithContext(ctx), id, int64(tier), t)
	if err != nil {
		return 0, 0, false, err
	}
	from, late := newest, int64(math.MinInt64)
	if c.ID != 0 {
		from = max(c.FirstAt, newest)
	}
	if isPatched && patched.first < t {
		late = patched.last
	}
	switch {
	case c.ID != 0 && c.LastAt < t && c.LastAt > max(newest, late):
		from = c.LastAt
	case late >= from: // a patch may have it
	case c.ID == 0 || c.FirstAt < newest && c.LastAt <= newest:
		at, value, ok = lastOf(tray, tier)
		return at, value, ok, nil
	}
	var rows gathered
	need := rollup.Wants(rollup.ColLast, rollup.ColLastAt)
	if err := e.Scan(ctx, id, Wanted{Tier: tier, From: from, To: t, Need: need, Keep: true}, &rows); err != nil {
		return 0, 0, false, err
	}
	at, value, ok = lastOf(rows.rows, tier)
	return at, value, ok, nil
}

func lastOf(b column.Block, tier series.Tier) (at int64, value float64, ok bool) {
	n := b.Len()
	if n == 0 {
		return 0, 0, false
	}
	if tier == series.Readings {
		return b.Times[n-1], b.Cols[0][n-1], true
	}
	return b.Times[n-1] + int64(b.Cols[rollup.ColLastAt][n-1]), b.Cols[rollup.ColLast][n-1], true
}
