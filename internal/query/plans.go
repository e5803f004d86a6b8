package query

import (
	"slices"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// planned is one set of windows, with a plan for each sort of series that it is asked of.
type planned struct {
	from int64 // where the first window begins
	by   map[basis]*window.Plan
}

// basis holds the facts that a plan depends on: whether all readings of its time are here, or only summaries, and
// of which widths.
type basis struct {
	readings bool
	tiers    series.Tiers
}

func (p planned) basisOf(s *engine.Series) basis {
	return basis{s.Collected && p.from >= s.ThinnedTo, s.Tiers}
}

func (p planned) of(s engine.Series) *window.Plan { return p.by[p.basisOf(&s)] }

// narrowest returns one of the plans, which all have the same windows: the one of the narrowest rows.
func (p planned) narrowest() (one *window.Plan) {
	for _, plan := range p.by {
		if one == nil || plan.Tier < one.Tier {
			one = plan
		}
	}
	return one
}

// plans returns the plan of the windows and, with a shift, the plan of the shifted ones.
func (q Windows) plans(src Source, found []engine.Series, stats []window.Stat) ([]planned, error) {
	shifts := 1
	if !q.Shift.IsZero() {
		shifts = 2
	}
	windows, err := q.cut(src, len(found)*shifts)
	if err != nil {
		return nil, err
	}
	if err := q.check(size{len(windows), len(found), shifts, q.statsAsked()}, src); err != nil {
		return nil, err
	}
	shifted := [][]window.Window{windows}
	if shifts > 1 {
		earlier, err := q.Grid.Shifted(windows, q.Shift)
		if err != nil {
			return nil, refuse("range", "%v", err)
		}
		shifted = append(shifted, earlier)
	}
	var out []planned
	for _, w := range shifted {
		p := planned{from: earliest(w), by: map[basis]*window.Plan{}}
		for i := range found {
			like := p.basisOf(&found[i])
			if p.by[like] != nil {
				continue
			}
			plan, err := q.plan(src, w, len(found), &found[i], like.readings, stats)
			if err != nil {
				return nil, err
			}
			p.by[like] = plan
		}
		out = append(out, p)
	}
	return out, nil
}

// earliest returns where the first of windows begins, which with pieces may be any of them.
func earliest(windows []window.Window) int64 {
	first := windows[0].From
	for i := range windows {
		first = min(first, windows[i].From)
		for _, piece := range windows[i].Pieces {
			first = min(first, piece.From)
		}
	}
	return first
}

// reach returns the time that the windows are of, which may go beyond the range.
func (q Windows) reach() (from, to int64) {
	from, to = q.Range.From.UnixNano(), q.Range.To.UnixNano()
	windows, err := q.Grid.Cut(q.Range, mostWindows)
	if err != nil || len(windows) == 0 {
		return from, to // it is refused later
	}
	for _, w := range windows {
		to = max(to, w.To)
	}
	from = min(from, earliest(windows))
	if !q.Shift.IsZero() {
		if earlier, err := q.Grid.Shifted(windows, q.Shift); err == nil {
			from = min(from, earliest(earlier))
		}
	}
	return from, to
}

// plan returns the plan for all series that are read alike.
func (q Windows) plan(src Source, windows []window.Window, count int, like *engine.Series, readings bool, stats []window.Stat) (*window.Plan, error) {
	exact := slices.ContainsFunc(stats,
		func(s window.Stat) bool { return s.NeedsReadings() || readings && s.IsCondition() })
	tiers := like.Tiers.All()
	plan, err := window.NewPlan(windows, tiers, readings, exact)
	if err != nil && like.Collected {
		return nil, refuse("thinned", "of %s not all readings from before %s are kept (%s), so this has no exact answer: use widths and times that are multiples of %s, stats that do not need each reading, or a later range; `readings` shows what was kept",
			like.Path, written(like.ThinnedTo), thinningOf(like), tiers[0])
	}
	if err != nil {
		return nil, refuse("range", "%v", q.narrow(tiers[0], err))
	}
	return plan, q.checkPlan(plan, count, slices.ContainsFunc(stats, window.Stat.IsEstimate), src)
}

// thinningOf returns how readings of a series are thinned, or were.
func thinningOf(s *engine.Series) string {
	if s.Thinning.Method == 0 {
		return "they were thinned then"
	}
	return s.Thinning.String()
}
