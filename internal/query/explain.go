package query

import (
	"fmt"
	"strings"
	"time"

	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// Explained says which rows were read for a series, and why not fewer.
type Explained struct {
	engine.ScanStats
	Why string // not a wider tier; "" when it is the widest
}

func explain(s *engine.Series, plan *window.Plan, stats []window.Stat, work engine.ScanStats) *Explained {
	out := &Explained{ScanStats: work, Why: plan.Why(s.Tiers.All())}
	if guide, ok := guideOf(s, plan, stats); ok {
		out.Why = fmt.Sprintf("the stats need the readings themselves, but where a summary of %s tells that a condition never held, or always", guide)
	}
	var finer []string
	for _, one := range work {
		if one.Tier < plan.Tier && one.Rows > 0 {
			finer = append(finer, one.Tier.String())
		}
	}
	switch {
	case len(parts(s, plan, stats)) > 1:
		late := "from " + written(s.Late.From) + " to " + written(s.Late.To) + " the readings themselves, as their summaries are not made yet"
		out.Why = strings.TrimPrefix(out.Why+"; "+late, "; ")
	case len(finer) > 0:
		out.Why = strings.TrimPrefix(fmt.Sprintf("%s; after the last summary of %s that is made, from %s", out.Why,
			plan.Tier, strings.Join(finer, " and ")),
			"; ")
	}
	return out
}

func written(t int64) string { return time.Unix(0, t).UTC().Format(time.RFC3339) }

// and joins the reads of two plans.
func (e *Explained) and(o *Explained) *Explained {
	if e == nil || o == nil {
		return o
	}
	return &Explained{ScanStats: e.Plus(o.ScanStats), Why: o.Why}
}
