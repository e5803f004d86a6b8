package pipeline

import (
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/store/engine"
)

// Summaries are made in order of time, so what is newer than the last of them is read as readings.
// Where that order is broken, by readings that come late or by windows that are left behind, the
// store is told, so that nobody is given what was true before.

// markLate marks, of each series, what could be summarised and is still pending.
func (r *roller) markLate(now int64) {
	for id, over := range r.pending.Over(func(w rollup.Window) bool { return w.Closed(now) && r.isRead(w) }) {
		r.store.MarkLate(id, engine.LateStretch(over))
	}
}

// noLongerLate leaves of what is late only what is still pending: what could be summarised, or was
// before the clock was set back.
func (r *roller) noLongerLate(now int64) {
	late := r.store.LateSeries()
	if len(late) == 0 {
		return
	}
	over := r.pending.Over(func(w rollup.Window) bool {
		until, ok := late[w.Series]
		return ok && (w.Closed(now) || w.End() <= until) && r.isRead(w)
	})
	left := make(map[uint32]engine.LateStretch, len(over))
	for id, stretch := range over {
		left[id] = engine.LateStretch(stretch)
	}
	r.store.Summarised(left)
}

// isRead reports that a window is not of a tier that is being filled: such are read only when all of
// them are made.
func (r *roller) isRead(w rollup.Window) bool {
	f := r.fills.of[w.Series]
	return f == nil || f.made() || !f.makes(w.Tier)
}
