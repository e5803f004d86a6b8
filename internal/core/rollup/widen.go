package rollup

import (
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// Widen returns the summary of from <= time < to of a series, made of the summaries of a narrower
// tier, as Fold makes it of readings. rows are the rows of the span and of FreshFor before it,
// whose last reading may still speak for its start. Without any in the span Count is 0.
func Widen(rows column.Block, narrower series.Tier, from, to int64, def *series.Definition) Summary {
	i, k := rows.Search(from), rows.Search(to)
	if i == k {
		return Summary{}
	}
	join := NewJoiner(def, NeedAll)
	join.Begin(from)
	join.Summaries(rows, i, k, int64(narrower))
	sum := join.End(to)
	if i > 0 { // the step from the reading before belongs to whoever joins windows
		before := FromRow(rows, i-1, def.Kind)
		sum.holdFor(before.Last, from, min(rows.Times[i], before.LastAt+int64(def.FreshFor)), def)
	}
	return sum
}
