package marks

import (
	"nexocumula/internal/core/series"
	"slices"
)

// Kind is a kind of rows of a series that are sent.
type Kind uint8

// The kinds.
const (
	Summaries Kind = iota // of one tier
	Sketches
	Asked // readings that somebody asked for
)

// Of says what a mark is about: one kind of rows of a series.
type Of struct {
	Kind   Kind
	Series uint32
	Tier   series.Tier // of summaries
}

// Span is from <= start of the window < to.
type Span struct {
	From, To int64 // nanoseconds since 1970
	Rows     int   // about how many summaries; revisions are counted again
	Since    int64 // when the oldest of them was made, nanoseconds since 1970
}

// Mark is one span of something.
type Mark struct {
	Of
	Span
}

// mostSpans bounds the spans of one series and tier. Beyond it the two closest become
// one: sending what lies between them again changes nothing.
const mostSpans = 16

// Set is marks that are merged where they meet. It has no lock.
type Set struct {
	spans map[Of][]Span // in order, none touching the next
	rows  int
}

// Len returns how many series' tiers have marks.
func (s *Set) Len() int { return len(s.spans) }

// Rows is about how many summaries are marked.
func (s *Set) Rows() int { return s.rows }

// Add marks a span. It costs the number of spans its series' tier has.
func (s *Set) Add(m Mark) {
	if m.From >= m.To {
		return
	}
	if s.spans == nil {
		s.spans = map[Of][]Span{}
	}
	s.rows += m.Rows
	have := s.spans[m.Of]
	first, _ := slices.BinarySearchFunc(have, m.From, func(p Span, from int64) int {
		if p.To < from {
			return -1
		}
		return 1
	})
	last := first
	merged := m.Span
	for ; last < len(have) && have[last].From <= m.To; last++ {
		merged = join(merged, have[last])
	}
	if len(have) == 0 {
		s.spans[m.Of] = []Span{merged}
		return
	}
	have = slices.Replace(have, first, last, merged)
	if len(have) > mostSpans {
		have = joinClosest(have)
	}
	s.spans[m.Of] = have
}

func join(a, b Span) Span {
	return Span{From: min(a.From, b.From), To: max(a.To, b.To), Rows: a.Rows + b.Rows, Since: min(a.Since, b.Since)}
}

func joinClosest(have []Span) []Span {
	at := 1
	for i := 2; i < len(have); i++ {
		if have[i].From-have[i-1].To < have[at].From-have[at-1].To {
			at = i
		}
	}
	return slices.Replace(have, at-1, at+1, join(have[at-1], have[at]))
}

// Take removes one span, whichever, that skip does not name, and returns it.
func (s *Set) Take(skip func(Of) bool) (Mark, bool) {
	for of, have := range s.spans {
		if skip != nil && skip(of) {
			continue
		}
		m := Mark{of, have[0]}
		if len(have) == 1 {
			delete(s.spans, of)
		} else {
			s.spans[of] = slices.Clone(have[1:])
		}
		s.rows -= m.Rows
		return m, true
	}
	return Mark{}, false
}

// Each calls visit with every span, in no order.
func (s *Set) Each(visit func(Mark)) {
	for of, have := range s.spans {
		for _, one := range have {
			visit(Mark{of, one})
		}
	}
}

// Oldest returns when the oldest summary marked was made; 0 without any.
func (s *Set) Oldest() (since int64) {
	first := true
	s.Each(func(m Mark) {
		if first || m.Since < since {
			since, first = m.Since, false
		}
	})
	return since
}

// First returns the first time marked of a series' tier.
func (s *Set) First(of Of) (from int64, ok bool) {
	have := s.spans[of]
	if len(have) == 0 {
		return 0, false
	}
	return have[0].From, true
}

// Cut removes what is marked of something before a time, and returns about how many
// summaries that were.
func (s *Set) Cut(of Of, before int64) (rows int) {
	var left []Span
	for _, one := range s.spans[of] {
		switch {
		case one.To <= before:
			rows += one.Rows
			continue
		case one.From < before:
			gone := int(float64(one.Rows) * float64(before-one.From) / float64(one.To-one.From))
			rows += gone
			one.From, one.Rows = before, one.Rows-gone
		}
		left = append(left, one)
	}
	s.rows -= rows
	if len(left) == 0 {
		delete(s.spans, of)
	} else {
		s.spans[of] = left
	}
	return rows
}

// Move adds all marks to another set and leaves this one empty.
func (s *Set) Move(to *Set) {
	s.Each(to.Add)
	s.spans, s.rows = nil, 0
}
