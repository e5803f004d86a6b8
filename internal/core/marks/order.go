package marks

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/core/series"
)

// Order is the order in which what waits is taken.
type Order uint8

// The orders. By series is what a batch is smallest in.
const (
	BySeries Order = iota
	Newest
	Oldest
	Widest // tiers
)

var orders = []string{"series", "newest", "oldest", "widest"}

// ParseOrder reads the name of an order.
func ParseOrder(text string) (Order, error) {
	if i := slices.Index(orders, text); i >= 0 {
		return Order(i), nil
	}
	return 0, fmt.Errorf("%q is not possible; write one of %s", text, strings.Join(orders, ", "))
}

// piece is how much of the time of all series comes before the next piece of it.
const piece = int64(time.Hour)

// endless is the length from which a span says that all there is waits, and not from when to when.
const endless = 400 * 24 * piece

// Turn is what comes next of a set: a piece of the time of some series' tiers.
type Turn struct {
	Of       []Of // in order
	From, To int64
}

// Next returns what comes next, empty when there is nothing.
func (s *Set) Next(order Order) Turn {
	out := Turn{From: math.MinInt64, To: math.MaxInt64}
	switch order {
	case Newest:
		end := s.edge(math.MinInt64, func(edge int64, one Span) int64 { return max(edge, one.To) })
		if end != math.MinInt64 {
			out.From = down(end-1, piece)
		}
	case Oldest:
		begin := s.edge(math.MaxInt64, func(edge int64, one Span) int64 { return min(edge, one.From) })
		if begin != math.MaxInt64 {
			out.To = down(begin, piece) + piece
		}
	}
	var widest series.Tier
	for of, have := range s.spans {
		if order == Widest {
			widest = max(widest, of.Tier)
		}
		if slices.ContainsFunc(have, func(one Span) bool { return one.From < out.To && one.To > out.From }) {
			out.Of = append(out.Of, of)
		}
	}
	if order == Widest {
		out.Of = slices.DeleteFunc(out.Of, func(of Of) bool { return of.Tier != widest })
	}
	slices.SortFunc(out.Of, func(a, b Of) int {
		return cmp.Or(cmp.Compare(a.Series, b.Series), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Tier, b.Tier))
	})
	return out
}

// edge folds all spans that say from when to when.
func (s *Set) edge(none int64, further func(edge int64, one Span) int64) int64 {
	for _, have := range s.spans {
		for _, one := range have {
			if one.To-one.From < endless {
				none = further(none, one)
			}
		}
	}
	return none
}

func down(t, step int64) int64 { return t - ((t%step)+step)%step }

// TakeWithin removes what is marked of something between two times, of its first span that has any, and returns it.
// A window is in one piece. A span without an end is taken whole.
func (s *Set) TakeWithin(of Of, from, to int64) (Mark, bool) {
	have := s.spans[of]
	at := slices.IndexFunc(have, func(one Span) bool { return one.From < to && one.To > from })
	if at < 0 {
		return Mark{}, false
	}
	whole := have[at]
	taken, rest := whole, []Span(nil)
	if whole.To-whole.From < endless {
		if wide := int64(of.Tier); wide > piece {
			from, to = down(max(from, whole.From), wide), down(min(to, whole.To)-1, wide)+wide
		}
		before, after := whole, whole
		before.To, after.From = max(from, whole.From), min(to, whole.To)
		taken.From, taken.To = before.To, after.From
		share := func(one Span) int {
			return int(float64(whole.Rows) * float64(one.To-one.From) / float64(whole.To-whole.From))
		}
		if before.From < before.To {
			before.Rows = share(before)
			rest = append(rest, before)
		}
		if after.From < after.To {
			after.Rows = share(after)
			rest = append(rest, after)
		}
		for _, one := range rest {
			taken.Rows -= one.Rows
		}
	}
	s.rows -= taken.Rows
	if have = slices.Concat(have[:at], rest, have[at+1:]); len(have) == 0 {
		delete(s.spans, of)
	} else {
		s.spans[of] = have
	}
	return Mark{of, taken}, true
}
