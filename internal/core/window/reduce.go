package window

import (
	"math"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// Rows are a query's answer for one series, by column.
type Rows struct {
	Starts []int64 // nanoseconds since 1970, ascending
	Stats  [][]float64
	Filled []bool // the row stands for a window without data

	Whole    rollup.Summary // the whole range as one window; Count 0 when there is nothing
	Coverage float64        // share of the whole range
}

// Reduce computes the rows of one series from block, which holds what the plan's
// tier has for the range: summaries, or for tier 0 readings, from FreshFor before
// the range on.
func Reduce(p Plan, block column.Block, def series.Definition, stats []Stat, gaps Gaps) Rows {
	windows := summarise(p, block, def)
	out := Rows{Stats: make([][]float64, len(stats))}
	for i, w := range windows {
		out.Whole = rollup.Merge(out.Whole, w.summary)
		if i > 0 {
			out.fill(p, gaps, stats, windows[i-1], w, def.Kind)
		} else if gaps.Mode == Number {
			out.fillWith(p.From, w.start, p.Width, stats, func(Stat, float64) float64 { return gaps.Value })
		}
		out.add(w.start, false, stats, func(s Stat) float64 { return s.Of(w.summary, p.Width, def.Kind) })
	}
	out.fillEnd(p, gaps, stats, windows)
	out.Coverage = float64(out.Whole.Covered) / float64(p.To-p.From)
	return out
}

type window struct {
	start   int64
	summary rollup.Summary
}

// summarise is one summary per window that has data, in order.
func summarise(p Plan, block column.Block, def series.Definition) []window {
	var out []window
	grid := rollup.Tier(p.Width)
	for i := block.Search(p.From); i < block.Len() && block.Times[i] < p.To; {
		start := grid.Start(block.Times[i])
		end := block.Search(start + int64(p.Width))
		var sum rollup.Summary
		if p.Tier == rollup.Readings {
			sum, _ = rollup.Fold(block, start, p.Width, def)
		} else {
			for k := i; k < end; k++ {
				sum = rollup.Merge(sum, rollup.FromRow(block, k))
			}
		}
		out = append(out, window{start, sum})
		i = end
	}
	return out
}

func (r *Rows) add(start int64, filled bool, stats []Stat, value func(Stat) float64) {
	r.Starts = append(r.Starts, start)
	r.Filled = append(r.Filled, filled)
	for i, s := range stats {
		r.Stats[i] = append(r.Stats[i], value(s))
	}
}

// fill adds the rows between two windows that have data.
func (r *Rows) fill(p Plan, gaps Gaps, stats []Stat, before, after window, kind series.Kind) {
	switch gaps.Mode {
	case Carry:
		r.fillWith(before.start+int64(p.Width), after.start, p.Width, stats, func(Stat, float64) float64 { return before.summary.Last })
	case Number:
		r.fillWith(before.start+int64(p.Width), after.start, p.Width, stats, func(Stat, float64) float64 { return gaps.Value })
	case Join:
		r.fillWith(before.start+int64(p.Width), after.start, p.Width, stats, func(s Stat, share float64) float64 {
			a, b := s.Of(before.summary, p.Width, kind), s.Of(after.summary, p.Width, kind)
			if kind == series.Bearing {
				return math.Mod(a+share*(math.Mod(b-a+540, 360)-180)+360, 360) // the short way round
			}
			return a + share*(b-a)
		})
	}
}

// fillEnd adds the rows behind the last window that has data, or all of them.
func (r *Rows) fillEnd(p Plan, gaps Gaps, stats []Stat, windows []window) {
	from := p.From
	if len(windows) > 0 {
		from = windows[len(windows)-1].start + int64(p.Width)
	}
	switch {
	case gaps.Mode == Number:
		r.fillWith(from, p.To, p.Width, stats, func(Stat, float64) float64 { return gaps.Value })
	case gaps.Mode == Carry && len(windows) > 0:
		last := windows[len(windows)-1].summary.Last
		r.fillWith(from, p.To, p.Width, stats, func(Stat, float64) float64 { return last })
	}
}

// fillWith adds filled rows for from <= start < to; share runs from 0 to 1 over them.
func (r *Rows) fillWith(from, to int64, width time.Duration, stats []Stat, value func(s Stat, share float64) float64) {
	steps := float64((to-from)/int64(width) + 1)
	for k, start := 1.0, from; start < to; k, start = k+1, start+int64(width) {
		r.add(start, true, stats, func(s Stat) float64 {
			switch {
			case s.isValue():
				return value(s, k/steps)
			case s == Count || s == Coverage:
				return 0
			}
			return math.NaN()
		})
	}
}
