package store

import (
	"context"
	"strings"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
)

// Prefetch holds the first rows that scans of many series need, read in one go: a statement for each
// would take longer than all the rest.
type Prefetch struct {
	tier     rollup.Tier
	from, to int64
	trays    map[uint32]column.Block // looked at before the chunks, as in a scan by itself
	chunks   map[uint32][]chunkRow
}

// Prefetch reads what Scans of series that want the same will need; nil when they gain nothing.
func (s *Store) Prefetch(ctx context.Context, ids []uint32, w Wanted) (*Prefetch, error) {
	if len(ids) < 2 || !stepsWithList(w, w.From) {
		return nil, nil
	}
	a := &Prefetch{tier: w.Tier, from: w.From, to: w.To, trays: map[uint32]column.Block{}, chunks: map[uint32][]chunkRow{}}
	for _, id := range ids {
		a.trays[id], a.chunks[id] = s.inTray(seriesTier{id, w.Tier}, w.From, w.To), []chunkRow{}
	}
	columns, steps := listColumns(w, w.From)
	rows, err := s.reader.WithContext(ctx).Raw("SELECT series, "+columns+" FROM chunks WHERE series IN ? AND tier = ? AND first_at < ? AND last_at >= ? ORDER BY series, first_at",
		ids, int64(w.Tier), w.To, w.From).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		c := chunkRow{Tier: int64(w.Tier)}
		if err := rows.Scan(append([]any{&c.Series}, c.listed(columns, steps)...)...); err != nil {
			return nil, err
		}
		a.chunks[c.Series] = append(a.chunks[c.Series], c)
	}
	for id, chunks := range a.chunks {
		if len(chunks) >= listAtOnce {
			delete(a.trays, id) // it goes by itself
		}
	}
	return a, rows.Err()
}

// of returns the prefetched rows of a series' scan, if any.
func (a *Prefetch) of(id uint32, w Wanted) (tray column.Block, chunks []chunkRow, ok bool) {
	if a == nil || a.tier != w.Tier || a.from != w.From || a.to != w.To {
		return column.Block{}, nil, false
	}
	tray, ok = a.trays[id]
	return tray, a.chunks[id], ok
}

// stepsWithList says that the range is so short that the steps of its chunks are read with
// the list of them: there are one or two, and they will be wanted.
func stepsWithList(w Wanted, from int64) bool {
	return w.Steps && w.Tier == stepsOf && w.To-from <= stepsAtOnce
}

// listColumns returns the columns that a list of chunks needs.
func listColumns(w Wanted, from int64) (columns string, steps []string) {
	columns = "id, first_at, last_at, row_count, steps, checksum"
	if w.Cut != nil {
		columns += ", whole"
	}
	if stepsWithList(w, from) {
		steps = stepNames(w.Need)
		columns += ", " + strings.Join(steps, ", ")
	}
	return columns, steps
}

// listed are the fields of listColumns.
func (c *chunkRow) listed(columns string, steps []string) []any {
	out := []any{&c.ID, &c.FirstAt, &c.LastAt, &c.Count, &c.Steps, &c.Checksum}
	if strings.Contains(columns, "whole") {
		out = append(out, &c.Whole)
	}
	return append(out, []any{&c.Step0, &c.Step1}[:len(steps)]...)
}
