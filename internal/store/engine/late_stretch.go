package engine

// LateStretch is a stretch of a series' time whose readings are here and whose summaries may not say
// what they do: readings came late, or the summaries of very many are made one part after the
// other. Who asks reads the readings there. It is kept in memory only: whoever makes summaries
// knows after a start which are still to be made.
type LateStretch struct{ From, To int64 } // To is not part of it; without one both are 0

func (l LateStretch) none() bool { return l.From >= l.To }

// and returns the stretch of both, and what lies between them.
func (l LateStretch) and(o LateStretch) LateStretch {
	switch {
	case l.none():
		return o
	case o.none():
		return l
	}
	return LateStretch{min(l.From, o.From), max(l.To, o.To)}
}

// Within returns the part of it from one time to another.
func (l LateStretch) Within(from, to int64) (LateStretch, bool) {
	out := LateStretch{max(l.From, from), min(l.To, to)}
	return out, out.From < out.To
}

// belated returns the stretch that summaries may lack when readings come, from the first to the last of them:
// these are older than the newest, or go on in a window that was summarised without them.
func (s *Series) belated(first, last int64) LateStretch {
	if s.LastTime == 0 || first > s.LastTime && first >= s.SummarisedTo {
		return LateStretch{}
	}
	return LateStretch{first, min(last, max(s.LastTime, s.SummarisedTo)) + int64(s.FreshFor) + 1} // the last may speak for a while
}

// summarisedAtMost returns how far a series can be summarised at some time: no window is without a
// reading, or before it is over.
func (s *Series) summarisedAtMost(now int64) (until int64) {
	if s.LastTime == 0 {
		return 0
	}
	for _, tier := range s.Tiers.All() {
		start := tier.Start(s.LastTime)
		if until = max(until, start); start+int64(tier) <= now {
			until = max(until, start+int64(tier))
		}
	}
	return until
}

// MarkLate says that the summaries of a stretch of time are not made yet, though later ones may be.
func (e *Engine) MarkLate(id uint32, l LateStretch) {
	e.alter(func(m *memory) {
		if known := m.catalogue.get(id); known != nil && !l.none() {
			known.Late = known.Late.and(l)
			m.late[id] = struct{}{}
		}
	})
}

// Summarised is told which stretches are still to be summarised; what else was late of any series is so no more.
func (e *Engine) Summarised(left map[uint32]LateStretch) {
	e.alter(func(m *memory) {
		for id := range m.late {
			known, still := m.catalogue.get(id), left[id]
			known.Late, _ = known.Late.Within(still.From, still.To)
			if known.Late.none() {
				known.Late = LateStretch{}
				delete(m.late, id)
			}
		}
	})
}

// LateSeries returns the series with such a stretch, and until when each may be summarised.
func (e *Engine) LateSeries() (out map[uint32]int64) {
	e.look(func(m *memory) {
		out = make(map[uint32]int64, len(m.late))
		for id := range m.late {
			out[id] = m.catalogue.get(id).SummarisedTo
		}
	})
	return out
}
