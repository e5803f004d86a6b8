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
	of       map[uint32]*ahead
}

// ahead is what was read of one series: first the tray, then the patches, and then the chunks, as in a scan by
// itself.
type ahead struct {
	tray    column.Block
	patches []sqlite.Patch
	chunks  []sqlite.Chunk
}

// Prefetch reads what Scans of series that want the same will need; nil when they gain nothing.
func (e *Engine) Prefetch(ctx context.Context, ids []uint32, w Wanted) (*Prefetch, error) {
	if len(ids) < 2 || !w.stepsWithList(w.From) {
		return nil, nil
	}
	p := &Prefetch{tier: w.Tier, from: w.From, to: w.To, of: map[uint32]*ahead{}}
	for _, id := range ids {
		p.of[id] = &ahead{tray: e.inTray(seriesTier{id, w.Tier}, w.From, w.To)}
	}
	db := e.file.Reader().WithContext(ctx)
	if patched := e.patchedOf(ids, w); len(patched) > 0 {
		patches, err := sqlite.PatchesOfMany(db, patched, int64(w.Tier), w.From, w.To-1)
		if err != nil {
			return nil, err
		}
		for _, one := range patches {
			of := p.of[one.Series]
			of.patches = append(of.patches, one)
		}
	}
	chunks, err := sqlite.ChunksOfMany(db, ids, int64(w.Tier), w.From, w.To, w.listed(w.From))
	if err != nil {
		return nil, err
	}
	for len(chunks) > 0 { // they come by series
		id, n := chunks[0].Series, 1
		for n < len(chunks) && chunks[n].Series == id {
			n++
		}
		p.of[id].chunks, chunks = chunks[:n:n], chunks[n:]
	}
	for id, of := range p.of {
		if len(of.chunks) >= listAtOnce {
			delete(p.of, id) // it goes by itself
		}
	}
	return p, nil
}

// patchedOf returns the series with patches in the wanted time.
func (e *Engine) patchedOf(ids []uint32, w Wanted) (out []uint32) {
	e.look(func(m *memory) {
		for _, id := range ids {
			if of, ok := m.patched[seriesTier{id, w.Tier}]; ok && of.meets(w.From, w.To-1) {
				out = append(out, id)
			}
		}
	})
	return out
}

// take returns what was read ahead for a scan of a series, if anything.
func (p *Prefetch) take(id uint32, w Wanted) (*ahead, bool) {
	if p == nil || p.tier != w.Tier || p.from != w.From || p.to != w.To {
		return nil, false
	}
	of, ok := p.of[id]
	return of, ok
}

// stepsWithList says that the range is so short that the steps of its chunks are read with
// the list of them: there are one or two, and they will be wanted.
func (w Wanted) stepsWithList(from int64) bool {
	return w.Steps && w.Tier != series.Readings && int64(w.Tier) < stepWidth && w.To-from <= stepsAtOnce
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
