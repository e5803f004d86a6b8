package query

import (
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store"
)

// Explained is what was read for a series, and why not less.
type Explained struct {
	store.Work
	Why string // not a wider tier; "" when it is the widest
}

func explain(plan *window.Plan, tiers []rollup.Tier, work store.Work) *Explained {
	return &Explained{Work: work, Why: plan.Why(tiers)}
}

// and is what was read for both.
func (e *Explained) and(o *Explained) *Explained {
	if e == nil || o == nil {
		return o
	}
	return &Explained{Work: e.Plus(o.Work), Why: o.Why}
}
