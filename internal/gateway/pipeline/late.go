package pipeline

import (
	"slices"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/store"
)

// Summaries are made in order of time, so what is newer than the last of them is read as readings.
// Where that order is broken, by readings that come late or by windows that are left behind, the
// store is told, so that nobody is given what was true before.

// markLate marks, of each series, what could be summarised and is still pending.
func (p *Pipeline) markLate(now int64) {
	for id, over := range p.over(now) {
		p.store.MarkLate(id, store.Late(over))
	}
}

// noLongerLate leaves of what is late only what is still pending.
func (p *Pipeline) noLongerLate(now int64) {
	if !p.store.AnyLate() {
		return
	}
	over := p.over(now)
	p.store.Summarised(func(id uint32, late store.Late) store.Late {
		left, ok := over[id]
		if !ok {
			return store.Late{}
		}
		out, _ := late.Within(left.From, left.To)
		return out
	})
}

// over is what is pending of the tiers that series have. A tier that is being filled is read only when
// all of it is made.
func (p *Pipeline) over(now int64) map[uint32]rollup.Stretch {
	tiers := map[uint32][]rollup.Tier{}
	return p.pending.Over(now, func(w rollup.Window) bool {
		have, ok := tiers[w.Series]
		if !ok {
			known, _ := p.store.Get(w.Series)
			have = rollup.TiersOf(&known.Definition)
			tiers[w.Series] = have
		}
		return slices.Contains(have, w.Tier)
	})
}
