package store

import (
	"context"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
)

// Read is the rows of one series and tier with from <= time < to. The block may
// share memory with the store and must not be changed.
func (s *Store) Read(series uint32, tier rollup.Tier, from, to int64) (column.Block, error) {
	var all gathered
	err := s.Scan(context.Background(), series, Wanted{Tier: tier, From: from, To: to, Need: rollup.NeedAll, Keep: true}, &all)
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

// LastBefore is the last reading before t that the rows of a tier, those with a time
// before t, tell of.
func (s *Store) LastBefore(id uint32, tier rollup.Tier, t int64) (at int64, value float64, ok bool, err error) {
	tray := s.inTray(seriesTier{id, tier}, -1<<62, t)
	newest := int64(-1 << 62)
	if n := tray.Len(); n > 0 {
		newest = tray.Times[n-1]
		tray = tray.Rows(n-1, n)
	}
	var c chunkRow
	err = s.reader.Raw("SELECT id, first_at, last_at FROM chunks WHERE series = ? AND tier = ? AND first_at < ? ORDER BY first_at DESC LIMIT 1",
		id, int64(tier), t).Scan(&c).Error
	if err != nil {
		return 0, 0, false, err
	}
	if c.ID == 0 || c.FirstAt < newest && c.LastAt <= newest {
		at, value, ok = lastOf(tray, tier)
		return at, value, ok, nil
	}
	from := max(c.FirstAt, newest)
	if c.LastAt < t && c.LastAt > newest {
		from = c.LastAt
	}
	var rows gathered
	need := rollup.Wants(rollup.ColLast, rollup.ColLastAt)
	if err := s.Scan(context.Background(), id, Wanted{Tier: tier, From: from, To: t, Need: need, Keep: true}, &rows); err != nil {
		return 0, 0, false, err
	}
	at, value, ok = lastOf(rows.rows, tier)
	return at, value, ok, nil
}

func lastOf(b column.Block, tier rollup.Tier) (at int64, value float64, ok bool) {
	n := b.Len()
	if n == 0 {
		return 0, 0, false
	}
	if tier == rollup.Readings {
		return b.Times[n-1], b.Cols[0][n-1], true
	}
	return b.Times[n-1] + int64(b.Cols[rollup.ColLastAt][n-1]), b.Cols[rollup.ColLast][n-1], true
}
