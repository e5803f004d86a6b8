package pipeline

import (
	"context"
	"errors"
	"slices"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
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
			r.log.Error("after a late reading the next window's coverage may be wrong", "series", def.Path,
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
// the last reading of one may speak.
func (r *roller) widen(ctx context.Context, s *engine.Series, made []rollup.Window, wider series.Tier, steps int, now int64) []rollup.Window {
	marked := r.pending.Follow(made, wider, steps, now)
	for _, w := range made {
		next := wider.Start(w.Start) + int64(wider)
		reach := w.End() + int64(s.FreshFor)
		if next >= reach || next+int64(wider) > now { // what is still open is marked by what comes
			continue
		}
		first := &firstRow{}
		want := engine.Wanted{Tier: w.Tier, From: w.End(), To: wider.Start(reach-1) + int64(wider)}
		if err := r.store.Scan(ctx, s.ID, want, first); err != nil && !errors.Is(err, errAllFound) {
			r.log.Error("after a late reading the next window's coverage may be wrong", "series", s.Path, "error", err)
		}
		if first.found && first.time >= next {
			r.pending.Follow([]rollup.Window{{Series: s.ID, Tier: w.Tier, Start: first.time}}, wider, steps, now)
		}
	}
	return marked
}

// firstRow is a sink that wants one row.
type firstRow struct {
	time  int64
	found bool
}

func (f *firstRow) Rows(b column.Block, _ int64) error {
	f.time, f.found = b.Times[0], true
	return errAllFound
}

// Whole is never called because Cut is nil.
func (f *firstRow) Whole(int64, int64, rollup.Summary) error { return nil }
