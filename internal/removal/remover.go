package removal

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
)

// Store is what the remover asks of a store.
type Store interface {
	Get(id uint32) (engine.Series, bool)
	Find(path series.Path) (engine.Series, bool)
	Erasable(ctx context.Context, id uint32, from, to int64) (engine.Erased, error)
	Erase(ctx context.Context, id uint32, from, to int64) (engine.Erased, error)
	Readings(id uint32) (from int64, ok bool, err error)
}

// Remover takes out what was removed.
type Remover struct {
	store  Store
	gaps   records.Gaps
	ranges *Ranges
	log    *slog.Logger

	// between runs something while nothing is taken in, and seal seals the store. Remade is told of series of which
	// windows at both ends of a time have to be made again.
	between func(ctx context.Context, do func() error) error
	seal    func(ctx context.Context) error
	remake  func(id uint32, from, to int64)
}

// New makes a remover; Run starts it. Without remake nothing is made again here.
func New(st Store, gaps records.Gaps, ranges *Ranges, between func(context.Context, func() error) error,
	seal func(context.Context) error, remake func(id uint32, from, to int64), log *slog.Logger) *Remover {
	return &Remover{store: st, gaps: gaps, ranges: ranges, between: between, seal: seal, remake: remake, log: log}
}

// Wanted says what somebody wants to remove.
type Wanted struct {
	Series   []engine.Series
	From, To time.Time
	Author   string
	Reason   string
}

// Uneven says why the windows at the ends of a time cannot be made again, and which time is possible.
type Uneven struct {
	Series   series.Path
	Tier     series.Tier
	From, To time.Time
}

func (u *Uneven) Error() string {
	return fmt.Sprintf("of %s the readings around this time are not here, so its windows of %s cannot be made again without a part: remove whole windows, from %s to %s",
		u.Series, u.Tier, u.From.UTC().Format(time.RFC3339), u.To.UTC().Format(time.RFC3339))
}

// Count counts what would be removed, or says why that is not possible.
func (r *Remover) Count(ctx context.Context, w Wanted) (out []engine.Erased, err error) {
	from, to := w.From.UnixNano(), w.To.UnixNano()
	for _, s := range w.Series {
		if err := r.even(&s, from, to); err != nil {
			return nil, err
		}
		one, err := r.store.Erasable(ctx, s.ID, from, to)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// even returns nil when all windows at the ends of a time can be made again, or end there.
func (r *Remover) even(s *engine.Series, from, to int64) error {
	tiers := s.Tiers.All()
	if len(tiers) == 0 {
		return nil
	}
	widest := tiers[len(tiers)-1]
	first, end := engine.Touched(widest, from, to)
	if first == from && end == to {
		return nil
	}
	if since, ok, err := r.store.Readings(s.ID); err != nil {
		return err
	} else if r.remake != nil && ok && since <= first-int64(s.FreshFor) && first >= s.ThinnedTo {
		return nil
	}
	return &Uneven{s.Path, widest, time.Unix(0, first), time.Unix(0, end)}
}

// Later says why what is recorded as removed could not be taken out at once.
type Later struct{ Reason error }

func (l *Later) Error() string {
	return fmt.Sprintf("the removal is recorded and need not be asked for again, but its rows could not be taken out yet; "+
		"that is tried again every few seconds: %s", l.Reason)
}

func (l *Later) Unwrap() error { return l.Reason }

// Remove records that something is removed, and takes it out. Once it is recorded it stays removed: what could not be
// taken out now is taken out later, which Later says. What is recorded of the same time already, as by somebody who
// tried it on a disk that failed, is not recorded twice.
func (r *Remover) Remove(ctx context.Context, w Wanted) error {
	if err := r.ranges.Refresh(); err != nil {
		return err
	}
	var changes []records.GapChange
	for _, s := range w.Series {
		if r.ranges.is(s.Path, w.From, w.To) {
			continue
		}
		changes = append(changes, records.GapChange{Gap: records.Gap{
			Series: s.Path, From: w.From.UTC(), To: w.To.UTC(), Cause: gap.Removed, Detail: records.Clip(w.Reason), Author: w.Author,
		}})
	}
	if len(changes) > 0 {
		if err := r.gaps.Write(changes); err != nil {
			return err
		}
	}
	if err := r.Apply(ctx); err != nil {
		return &Later{err}
	}
	return nil
}

// Apply takes out what was removed and is still here.
func (r *Remover) Apply(ctx context.Context) error {
	if err := r.ranges.Refresh(); err != nil { // from now on nothing of it comes in
		return err
	}
	left, err := r.gaps.Unapplied()
	if err != nil || len(left) == 0 {
		return err
	}
	for try := 0; ; try++ {
		if err = r.apply(ctx, left); try == mostTries || !errors.Is(err, engine.ErrUnsealed) {
			return err
		}
	}
}

const mostTries = 5

// apply erases what is left. That windows at both ends are to be made again is saved with the seal, and said again once
// the rows are gone, as some may have been made of them meanwhile.
func (r *Remover) apply(ctx context.Context, left []records.Gap) error {
	if err := r.between(ctx, func() error {
		r.remakeEnds(left)
		return r.seal(ctx)
	}); err != nil {
		return err
	}
	var ids []uint64
	for _, g := range left {
		ids = append(ids, g.ID)
		known, ok := r.store.Find(g.Series)
		if !ok {
			continue
		}
		erased, err := r.store.Erase(ctx, known.ID, g.From.UnixNano(), g.To.UnixNano())
		if err != nil {
			return err
		}
		event.RowsRemoved.To(r.log, "series", g.Series, "from", g.From, "to", g.To, "readings", erased.Readings,
			"summaries", erased.Summaries, "who", g.Author)
	}
	if err := r.between(ctx, func() error { r.remakeEnds(left); return nil }); err != nil {
		return err
	}
	return r.gaps.Apply(ids)
}

func (r *Remover) remakeEnds(left []records.Gap) {
	for _, g := range left {
		if known, ok := r.store.Find(g.Series); ok && r.remake != nil {
			r.remake(known.ID, g.From.UnixNano(), g.To.UnixNano())
		}
	}
}

const lookEvery = 2 * time.Second

// Run takes out what arrives as removed, and what an earlier run left, until ctx ends.
func (r *Remover) Run(ctx context.Context) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	var seen uint64
	for {
		newest, err := r.gaps.Newest()
		if err == nil && newest != seen {
			if err = r.Apply(ctx); err == nil {
				seen = newest
			}
		}
		if err != nil && ctx.Err() == nil {
			event.RemovalFailed.To(r.log, "error", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}
