package store

import (
	"context"
	"math"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
)

// Fuller is the summaries among rows that may take the place of those in the store: new
// ones, and those that count at least as many readings. A gateway that was restored from
// an older copy knows of fewer readings than it once sent, and must not undo them.
func (s *Store) Fuller(id uint32, tier rollup.Tier, rows column.Block) (column.Block, error) {
	if n := rows.Len(); n == 0 || rows.Times[0] > s.newest(seriesTier{id, tier}) {
		return rows, nil
	}
	var have gathered
	want := Wanted{Tier: tier, From: rows.Times[0], To: rows.Times[rows.Len()-1] + 1, Need: rollup.Wants(rollup.ColCount), Keep: true}
	if err := s.Scan(context.Background(), id, want, &have); err != nil || have.rows.Len() == 0 {
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
		if k < have.rows.Len() && have.rows.Times[k] == t && have.rows.Cols[rollup.ColCount][k] > rows.Cols[rollup.ColCount][i] {
			keep(i)
		}
	}
	if from == 0 {
		return rows, nil
	}
	keep(rows.Len())
	return out, nil
}

// newest is the newest time of rows of a series and tier, or later.
func (s *Store) newest(at seriesTier) int64 {
	until, err := s.sealedUntil(at)
	if err != nil {
		return math.MaxInt64 // whoever asks reads then, and learns why
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, b := range []column.Block{s.tray[at], s.leaving[at]} {
		if n := b.Len(); n > 0 {
			until = max(until, b.Times[n-1])
		}
	}
	return until
}
