package query

import (
	"context"
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

const (
	quarter      = 15 * time.Minute
	sketchesOnce = 2000 // read at a time
)

// feed brings the reducer what the plan's tier has for the range. Summaries of windows
// that are still open are not there yet: after the last one, those of the finer tiers
// stand in, and after these the readings, so that an answer goes up to now.
func feed(ctx context.Context, src Source, s engine.Series, p *window.Plan, stats []window.Stat, ahead *engine.Prefetch, to *window.Reducer, work *engine.ScanStats) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := tellBefore(ctx, src, s, p, to); err != nil {
		return err
	}
	if slices.ContainsFunc(stats, window.Stat.IsEstimate) {
		if err := feedSketches(ctx, src, s, p, to); err != nil {
			return err
		}
	}
	percentiles := slices.ContainsFunc(stats, window.Stat.IsPercentile)
	tail := &tail{Reducer: to, next: p.From(), bounded: percentiles}
	for _, part := range parts(&s, p, stats) {
		if err := part.feed(ctx, src, s, p, stats, ahead, tail, work); err != nil {
			return err
		}
	}
	return nil
}

// firstWanted returns the first read of a series that is like another.
func firstWanted(s *engine.Series, p *window.Plan, stats []window.Stat) engine.Wanted {
	out := engine.Wanted{Tier: p.Tier, From: p.From(), To: p.To(), Need: window.Need(stats, s.Kind)}
	if !slices.ContainsFunc(stats, window.Stat.IsPercentile) { // of these each reading counts, and no synopsis
		out.Cut = p.Cut
		out.Steps = p.MultipleOf(quarter)
	}
	if guide, ok := guideOf(s, p, stats); ok {
		out.Tier = guide
	}
	return out
}

// tail passes everything on and remembers where it ended.
type tail struct {
	*window.Reducer
	next    int64
	bounded bool // all readings are kept until the end
	rows    int
}

func (t *tail) Rows(b column.Block, width int64) error {
	if t.rows += b.Len(); t.bounded && t.rows > mostKept {
		return refuse("too_large",
			"percentiles of more than %d readings of one series are not possible: ask for a shorter range", mostKept)
	}
	last := b.Times[b.Len()-1]
	if width > 0 {
		t.next = last - last%width + width
	} else {
		t.next = last + 1
	}
	return t.Reducer.Rows(b, width)
}

func (t *tail) Whole(from, to int64, sum rollup.Summary) error {
	t.next = to
	return t.Reducer.Whole(from, to, sum)
}

// tellBefore tells the reducer of the last reading before the range. When the
// plan's tier has no summary just before it, that is looked for in the finer ones too:
// it may not be made yet. Nor may it be when readings came late before the range.
func tellBefore(ctx context.Context, src Source, s engine.Series, p *window.Plan, to *window.Reducer) error {
	if s.FirstSeen >= p.From() {
		return nil
	}
	var newest int64
	var value float64
	tiers := tiersFor(&s, p)
	_, late := s.Late.Within(s.ThinnedTo, p.From())
	if late && s.Collected {
		tiers = []series.Tier{series.Readings, p.Tier} // which has those not kept any more
	}
	for _, tier := range tiers {
		at, v, ok, err := src.Store.LastBefore(ctx, s.ID, tier, p.From())
		if err != nil {
			return err
		}
		if ok && at > newest {
			newest, value = at, v
		}
		if late && newest != 0 || newest >= p.From()-int64(tier) && tier != series.Readings {
			break
		}
	}
	if newest != 0 {
		to.Before(newest, value)
	}
	return nil
}

// feedSketches brings the reducer the sketches of the range.
func feedSketches(ctx context.Context, src Source, s engine.Series, p *window.Plan, to *window.Reducer) error {
	for from := p.From(); from < p.To(); {
		if err := ctx.Err(); err != nil {
			return err
		}
		all, err := src.Store.Sketches(ctx, s.ID, from, p.To(), sketchesOnce)
		if err != nil {
			return err
		}
		for _, one := range all {
			parsed, err := sketch.Parse(one.Data)
			if err != nil {
				return fmt.Errorf("%s, sketch of %s: %w", s.Path, written(one.Start), err)
			}
			if err := to.Sketch(one.Start, parsed); err != nil {
				return err
			}
			from = one.Start + 1
		}
		if len(all) < sketchesOnce {
			return nil
		}
	}
	return nil
}
