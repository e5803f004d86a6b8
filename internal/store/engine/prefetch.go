package engine

import (
	"context"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Prefetch holds the first rows that scans of many series need, read in one go: a statement for each
// would take longer than all the rest.
type Prefetch struct {
	tier     series.Tier
	from, to int64
	trays    map[uint32]column.Block // looked at before the chunks, as in a scan by itself
	chunks   map[uint32][]sqlite.Chunk
}

// Prefetch reads what Scans of series that want the same will need; nil when they gain nothing.
func (e *Engine) Prefetch(ctx context.Context, ids []uint32, w Wanted) (*Prefetch, error) {
	if len(ids) < 2 || !w.stepsWithList(w.From) {
		return nil, nil
	}
	p := &Prefetch{
		tier:   w.Tier,
		from:   w.From,
		to:     w.To,
		trays:  map[uint32]column.Block{},
		chunks: map[uint32][]sqlite.Chunk{},
	}
	for _, id := range ids {
		p.trays[id], p.chunks[id] = e.inTray(seriesTier{id, w.Tier}, w.From, w.To), []sqlite.Chunk{}
	}
	chunks, err := sqlite.ChunksOfMany(e.file.Reader().WithContext(ctx), ids, int64(w.Tier), w.From, w.To,
		w.listed(w.From))
	if err != nil {
		return nil, err
	}
	for _, c := range chunks {
		p.chunks[c.Series] = append(p.chunks[c.Series], c)
	}
	for id, chunks := range p.chunks {
		if len(chunks) >= listAtOnce {
			delete(p.trays, id) // it goes by itself
		}
	}
	return p, nil
}

// of returns the prefetched rows of a series' scan, if any.
func (p *Prefetch) of(id uint32, w Wanted) (tray column.Block, chunks []sqlite.Chunk, ok bool) {
	if p == nil || p.tier != w.Tier || p.from != w.From || p.to != w.To {
		return column.Block{}, nil, false
	}
	tray, ok = p.trays[id]
	return tray, p.chunks[id], ok
}

// stepsWithList says that the range is so short that the steps of its chunks are read with
// the list of them: there are one or two, and they will be wanted.
func (w Wanted) stepsWithList(from int64) bool {
	return w.Steps && w.Tier == stepsOf && w.To-from <= stepsAtOnce
}

// listed returns the parts that a list of chunks has.
func (w Wanted) listed(from int64) (parts []sqlite.Part) {
	if w.Cut != nil {
		parts = append(parts, sqlite.Whole)
	}
	if w.stepsWithList(from) {
		parts = append(parts, stepParts(w.Need)...)
	}
	return parts
}
