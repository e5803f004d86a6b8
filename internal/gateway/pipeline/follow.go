package pipeline

import (
	"context"
	"errors"
	"slices"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

// mark notes the windows that committed readings of a series touch.
func (r *roller) mark(ctx context.Context, id uint32, rows column.Block, newest int64) {
	if known, ok := r.store.Get(id); ok { // with the tiers that it has, which may not be those its rule wants yet
		r.touch(ctx, id, &known.Definition, rows, newest, r.judge.Now().UnixNano())
	}
}

// touch marks the windows of rows. A row older than the newest before may have changed
// for how long the reading before it speaks, and it may speak for the start of the window
// of the reading after it.
func (r *roller) touch(ctx context.Context, id uint32, def *series.Definition, rows column.Block, newest, now int64) {
	r.pending.Touch(id, def, rows.Times, now)
	tier := def.Tiers.Narrowest()
	late := rows.Times[:rows.Search(newest)]
	for len(late) > 0 {
		n := 1
		for n < len(late) && late[n]-late[n-1] <= int64(def.FreshFor) {
			n++
		}
		next := &successors{
			of:     late[:n],
			tier:   tier,
			within: int64(def.FreshFor),
			found:  func(t int64) { r.pending.Touch(id, def, []int64{t}, now) },
		}
		want := engine.Wanted{
			Tier: series.Readings,
			From: late[0] + 1,
			To:   tier.Start(late[n-1]+int64(def.FreshFor)) + int64(tier),
		}
		if err := r.store.Scan(ctx, id, want, next); err != nil && !errors.Is(err, errAllFound) {
			event.CoverageUnsure.To(r.log, "series", def.Path,
				"error", err)
		}
		late = late[n:]
	}
}

var errAllFound = errors.New("all are found")

// successors is a sink that finds the reading after each of some times, where its window begins
// while that of before may still speak.
type successors struct {
	of     []int64 // ascending
	tier   series.Tier
	within int64
	found  func(t int64)
}

func (s *successors) Rows(b column.Block, _ int64) error {
	for _, t := range b.Times {
		for len(s.of) > 0 && s.of[0] < t {
			if s.tier.Start(t)-s.of[0] < s.within {
				s.found(t)
			}
			s.of = s.of[1:]
		}
		if len(s.of) == 0 {
			return errAllFound
		}
	}
	return nil
}

// Whole is never called because Cut is nil.
func (s *successors) Whole(int64, int64, rollup.Summary) error { return nil }

// follow marks the windows that those which were just made are part of.
func (r *roller) follow(ctx context.Context, made []rollup.Window, now int64) (marked []rollup.Window) {
	for len(made) > 0 {
		n := alike(made)
		if known, ok := r.store.Get(made[0].Series); ok && !made[0].Sketch {
			marked = append(marked, r.followSeries(ctx, &known, made[:n], now)...)
		}
		made = made[n:]
	}
	return marked
}

func (r *roller) followSeries(ctx context.Context, s *engine.Series, made []rollup.Window, now int64) (marked []rollup.Window) {
	tiers := s.Tiers.All()
	tier := made[0].Tier
	if f := r.fills.of[s.ID]; f != nil {
		for _, j := range f.jobs {
			if j.source == tier || j.source == series.Readings && tier == tiers[0] {
				marked = append(marked, r.widen(ctx, s, made, j.tier, len(tiers), now)...)
			}
		}
	}
	switch i := slices.Index(tiers, tier); {
	case i >= 0 && i+1 < len(tiers):
		marked = append(marked, r.widen(ctx, s, made, tiers[i+1], i+1, now)...)
	case i < 0:
		if _, filling := r.sourceOf(s, tier); !filling { // one that it had before
			marked = append(marked, r.pending.Follow(made, tiers[0], 0, now)...)
		}
	}
	return marked
}

// widen marks the windows of a wider tier over those that were made, and those for whose start
// the last reading of one may speak. What comes after windows that are near one another is read once.
func (r *roller) widen(ctx context.Context, s *engine.Series, made []rollup.Window, wider series.Tier, steps int, now int64) []rollup.Window {
	marked := r.pending.Follow(made, wider, steps, now)
	var reach []reaching
	for _, w := range made {
		one := reaching{end: w.End(), next: wider.Start(w.Start) + int64(wider)}
		one.until = wider.Start(one.end+int64(s.FreshFor)-1) + int64(wider)
		if one.next < one.end+int64(s.FreshFor) && one.next+int64(wider) <= now { // what is still open is marked by what comes
			reach = append(reach, one)
		}
	}
	tier := made[0].Tier
	for len(reach) > 0 {
		n := 1
		for n < len(reach) && reach[n].end <= reach[n-1].until {
			n++
		}
		next := &reached{of: reach[:n], found: func(t int64) {
			r.pending.Follow([]rollup.Window{{Series: s.ID, Tier: tier, Start: t}}, wider, steps, now)
		}}
		want := engine.Wanted{Tier: tier, From: reach[0].end, To: reach[n-1].until}
		if err := r.store.Scan(ctx, s.ID, want, next); err != nil && !errors.Is(err, errAllFound) {
			event.CoverageUnsure.To(r.log, "series", s.Path, "error", err)
		}
		reach = reach[n:]
	}
	return marked
}

// reaching is a window whose last reading may speak for windows of a wider tier after its own.
type reaching struct {
	end   int64
	next  int64 // where the first of those begins
	until int64 // and where they end
}

// reached is a sink that finds the row after each of some windows, where that is in one they may reach.
type reached struct {
	of    []reaching // by end
	found func(t int64)
}

func (s *reached) Rows(b column.Block, _ int64) error {
	for _, t := range b.Times {
		for len(s.of) > 0 && s.of[0].end <= t {
			if t >= s.of[0].next && t < s.of[0].until {
				s.found(t)
			}
			s.of = s.of[1:]
		}
		if len(s.of) == 0 {
			return errAllFound
		}
	}
	return nil
}

// Whole is never called because Cut is nil.
func (s *reached) Whole(int64, int64, rollup.Summary) error { return nil }
