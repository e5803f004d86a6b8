package outbox

import "nexocumula/internal/core/marks"

// KeepOrder has what could not be sent go before all that came later, in the order of time.
func (o *Outbox) KeepOrder() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.inOrder, o.order = true, marks.Oldest
}

// SetOrder has what waits go in an order, beside what is new.
func (o *Outbox) SetOrder(order marks.Order) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.order = order
}

// takeFrom takes a mark out of a set, in order out of the backlog. mu is held.
func (o *Outbox) takeFrom(set *marks.Set, skip func(marks.Of) bool) (marks.Mark, bool) {
	if set == &o.fresh || o.order == marks.BySeries {
		return set.Take(skip)
	}
	for {
		if len(o.turn.Of) == 0 {
			if o.turn = set.Next(o.order); len(o.turn.Of) == 0 {
				return marks.Mark{}, false
			}
		}
		of := o.turn.Of[0]
		o.turn.Of = o.turn.Of[1:]
		if m, ok := set.TakeWithin(of, o.turn.From, o.turn.To); ok {
			return m, true
		}
	}
}
