package query

import (
	"context"
	"math"
	"slices"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// Of most quarters of an hour, a summary tells that a condition never held, or always did, exactly as the readings
// would. So where the answer has to come from readings, the summaries are read first, and the readings only of the
// times between.

// guideOf returns the tier whose summaries say which readings are needed; ok is false when all are.
func guideOf(s *engine.Series, p *window.Plan, stats []window.Stat) (guide series.Tier, ok bool) {
	if p.Tier != series.Readings || !p.MultipleOf(quarter) || slices.ContainsFunc(stats, window.Stat.IsPercentile) ||
		!slices.ContainsFunc(stats, window.Stat.IsCondition) {
		return 0, false
	}
	guide = engine.StepsOf(s.Tiers)
	return guide, guide != 0
}

// worthSkipping is how many readings have to lie between two times that are read for each to be read by itself.
const worthSkipping = 4096

// guide is a sink of summaries. It passes on those that tell enough, and the readings of the other times.
type guide struct {
	*tail
	read     func(from, to int64) error // readings of that time come to the tail
	kind     series.Kind
	begin    int64 // where the range begins: summaries may not be kept for as long as readings
	from, to int64 // whose readings are to be read before what is held; from == to: none
	held     []heldRows
	skipped  float64 // readings that what is held tells of
}

// heldRows come after readings that have not been read yet.
type heldRows struct {
	rows     column.Block
	width    int64
	from, to int64 // of a summary without rows
	whole    rollup.Summary
}

func guided(ctx context.Context, src Source, s engine.Series, want engine.Wanted, to *tail) error {
	readings := want
	readings.Tier, readings.Steps, readings.Cut, readings.Ahead = series.Readings, false, nil, nil
	g := &guide{tail: to, kind: s.Kind, begin: want.From, from: want.From, to: want.From}
	g.read = func(from, to int64) error {
		readings.From, readings.To = max(from, s.ThinnedTo), to
		return src.Store.Scan(ctx, s.ID, readings, g.tail)
	}
	if err := src.Store.Scan(ctx, s.ID, want, g); err != nil {
		return err
	}
	return g.flush()
}

func (g *guide) Rows(b column.Block, width int64) error {
	if b.Len() > 0 {
		g.first(b.Times[0])
	}
	for i := 0; i < b.Len(); {
		k, count := i, 0.0
		for ; k < b.Len(); k++ {
			sum := rollup.FromRow(b, k, g.kind)
			if !g.Tells(b.Times[k], endOf(b, k, width), &sum) {
				break
			}
			count += sum.Count
		}
		if k > i {
			if err := g.hold(heldRows{rows: b.Rows(i, k), width: width}, count); err != nil {
				return err
			}
		}
		if k < b.Len() {
			g.need(b.Times[k], endOf(b, k, width))
			k++
		}
		i = k
	}
	return nil
}

// endOf returns where the window of a row ends, which may begin within it.
func endOf(b column.Block, i int, width int64) int64 { return b.Times[i] - b.Times[i]%width + width }

func (g *guide) Whole(from, to int64, sum rollup.Summary) error {
	g.first(from)
	if !g.Tells(from, to, &sum) {
		g.need(from, to)
		return nil
	}
	return g.hold(heldRows{from: from, to: to, whole: sum}, sum.Count)
}

// first asks for the readings of before the first summary.
func (g *guide) first(t int64) {
	if g.begin < t {
		g.need(g.begin, t)
	}
	g.begin = math.MaxInt64
}

// need asks for the readings of a time. What is held has to be read with it, when there is something before.
func (g *guide) need(from, to int64) {
	if g.from == g.to {
		g.from = from
	}
	g.to, g.held, g.skipped = to, g.held[:0], 0
}

// hold takes summaries that tell enough: they are passed on at once, or after the readings before them.
func (g *guide) hold(h heldRows, count float64) error {
	if g.from == g.to {
		return g.pass(h)
	}
	h.rows = h.rows.Clone()
	g.held, g.skipped = append(g.held, h), g.skipped+count
	if g.skipped < worthSkipping {
		return nil
	}
	return g.flush()
}

// flush passes on what is left.
func (g *guide) flush() error {
	if g.from < g.to {
		if err := g.read(g.from, g.to); err != nil {
			return err
		}
		g.next = max(g.next, g.to)
	}
	held := g.held
	g.from, g.to, g.held, g.skipped = 0, 0, nil, 0
	for _, h := range held {
		if err := g.pass(h); err != nil {
			return err
		}
	}
	return nil
}

func (g *guide) pass(h heldRows) error {
	if h.rows.Len() > 0 {
		return g.tail.Rows(h.rows, h.width)
	}
	return g.tail.Whole(h.from, h.to, h.whole)
}
