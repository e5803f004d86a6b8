package pipeline

import (
	"time"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/store/engine"
)

// Summaries are made in order of time, so what is newer than the last of them is read as readings.
// Where that order is broken, by readings that come late or by windows that are left behind, the
// store is told, so that nobody is given what was true before.

// markLate marks what could be summarised and is still pending, but for what it marked before.
func (r *roller) markLate(now int64) {
	over := r.pending.OverNews(now, r.isRead)
	for id, stretch := range over {
		r.store.MarkLate(id, engine.LateStretch(stretch))
	}
}

// lateShare bounds the time that goes into finding out what is no longer late, which grows with all that is pending,
// to one part in so many.
const lateShare = 10

// noLongerLate leaves of what is late only what is still pending: what could be summarised, or was
// before the clock was set back. Until then more readings are read than need be.
func (r *roller) noLongerLate(now int64) {
	if r.judge.Now().Before(r.lateAgain) && r.pending.Len() > mostPerRoll {
		return
	}
	defer func(begun time.Time) {
		ended := r.judge.Now()
		r.lateAgain = ended.Add(lateShare * ended.Sub(begun))
	}(r.judge.Now())
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
