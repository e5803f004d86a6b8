package engine

import (
	"context"
	"math"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// Replaceable returns the summaries among rows that may take the place of those in the store: new
// ones, and those that count at least as many readings. A gateway that was restored from
// an older copy knows of fewer readings than it once sent, and must not undo them.
func (e *Engine) Replaceable(ctx context.Context, id uint32, tier series.Tier, rows column.Block) (column.Block, error) {
	if n := rows.Len(); n == 0 || rows.Times[0] > e.newest(ctx, seriesTier{id, tier}) {
		return rows, nil
	}
	var have gathered
	want := Wanted{
		Tier: tier,
		From: rows.Times[0],
		To:   rows.Times[rows.Len()-1] + 1,
		Need: rollup.Wants(rollup.ColCount),
		Keep: true,
	}
	if err := e.Scan(ctx, id, want, &have); err != nil || have.rows.Len() == 0 {
		return rows, err
	}
	var out column.Block
	from := 0
	keep := func(i int) {
		if i > from {
			out.Append(rows.Rows(from, i))
		}
		from = i + 1
	}
	for i, t := range rows.Times {
		k := have.rows.Search(t)
		if k < have.rows.Len() && have.rows.Times[k] == t &&
			have.rows.Cols[rollup.ColCount][k] > rows.Cols[rollup.ColCount][i] {
			keep(i)
		}
	}
	if from == 0 {
		return rows, nil
	}
	keep(rows.Len())
	return out, nil
}

// newest returns the newest time of rows of a series and tier, or later.
func (e *Engine) newest(ctx context.Context, at seriesTier) int64 {
	until, err := e.sealedUntil(ctx, at)
	if err != nil {
		return math.MaxInt64 // whoever asks reads then, and learns why
	}
	e.look(func(m *memory) {
		for _, b := range []column.Block{m.tray[at], m.leaving[at]} {
			if n := b.Len(); n > 0 {
				until = max(until, b.Times[n-1])
			}
		}
		if of, ok := m.patched[at]; ok {
			until = max(until, of.last)
		}
	})
	return until
}
