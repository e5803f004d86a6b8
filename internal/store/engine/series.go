package engine

import (
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/thin"
)

// Series is a series the store knows.
type Series struct {
	ID uint32
	series.Definition
	Collected bool  // its readings are here, not only its summaries
	FirstSeen int64 // oldest time, nanoseconds since 1970; 0 without rows
	LastTime  int64 // time of the latest value; 0 without rows
	LastValue float64
	Ended     int64       // when who measures it said that it goes, if nothing came since; not kept over a restart; 0: it did not
	Late      LateStretch // what its summaries may not say yet

	// SummarisedTo is where the last window ends that has a summary, or a later time.
	SummarisedTo int64

	ThinnedTo int64 // not all readings before it are here; 0: all are
	Thinned   thin.Tally
}

// hasNoValues reports whether nothing is known of values.
func (s *Series) hasNoValues() bool {
	return !s.Collected && s.FirstSeen == 0 && s.LastTime == 0 && s.ThinnedTo == 0
}

// latestAs takes over what another says of values.
func (s *Series) latestAs(o *Series) {
	s.Collected, s.FirstSeen, s.LastTime, s.LastValue = o.Collected, o.FirstSeen, o.LastTime, o.LastValue
	s.ThinnedTo, s.Thinned = o.ThinnedTo, o.Thinned
}

// thinnedTo is from where on readings are thinned by another definition. What was stored before it
// asked for that stays.
func (s *Series) thinnedTo(by *series.Definition) int64 {
	if s.Thinning.Method == 0 && by.Thinning.Method != 0 && s.Collected {
		return max(s.ThinnedTo, s.LastTime+1)
	}
	return s.ThinnedTo
}

// saw keeps first and latest up to date with rows that were appended.
func (s *Series) saw(tier series.Tier, rows column.Block) {
	if rows.Len() == 0 {
		return
	}
	last := rows.Len() - 1
	first, t := rows.Times[0], rows.Times[last]
	var value float64
	if tier == series.Readings {
		value, s.Collected = rows.Cols[0][last], true
		s.Late = s.Late.and(s.belated(first, t))
	} else {
		c := rows.Cols
		s.SummarisedTo = max(s.SummarisedTo, rows.Times[last]+int64(tier))
		first += int64(c[rollup.ColFirstAt][0])
		t, value = t+int64(c[rollup.ColLastAt][last]), c[rollup.ColLast][last]
	}
	if s.FirstSeen == 0 || first < s.FirstSeen {
		s.FirstSeen = first
	}
	if t >= s.LastTime {
		s.LastTime, s.LastValue = t, value
	}
	if tier == series.Readings || !s.Collected {
		s.Ended = 0 // whatever its time, something came; summaries made here say nothing new
	}
}
