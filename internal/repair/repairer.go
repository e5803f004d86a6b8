package repair

import (
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
)

// Store is what the repairer asks of a store.
type Store interface {
	Judge() *clock.Judge
	Get(id uint32) (engine.Series, bool)
	Scan(ctx context.Context, id uint32, w engine.Wanted, sink engine.Sink) error
	Readings(id uint32) (from int64, ok bool, err error)
	SetAsideRows() ([]sqlite.Damaged, error)
	Mend(ids []uint64) error
	State(name string) ([]byte, error)
	PutState(name string, payload []byte) error
}

// Repairer makes damaged rows again.
type Repairer struct {
	store  Store
	gaps   records.Gaps
	log    *slog.Logger
	remake func(ctx context.Context, id uint32, tier series.Tier, from, to int64) error // at a gateway: from what is here
	again  func(path series.Path) bool                                                  // at a central: have a gateway send everything again
	verify func(ctx context.Context, found func(engine.Fault), read func(context.Context, int) error) error

	told map[uint64]time.Time // of what was set aside: when something was last done about it
}

// New makes a repairer; Run starts it. Of remake and again one may be nil.
func New(st Store, gaps records.Gaps, remake func(context.Context, uint32, series.Tier, int64, int64) error, again func(series.Path) bool,
	verify func(context.Context, func(engine.Fault), func(context.Context, int) error) error, log *slog.Logger) *Repairer {
	return &Repairer{store: st, gaps: gaps, remake: remake, again: again, verify: verify, log: log, told: map[uint64]time.Time{}}
}

const (
	lookEvery  = 10 * time.Second
	waitAgain  = time.Hour      // until something is tried again
	waitAtMost = 48 * time.Hour // for a gateway that is to send again
)

// Run repairs what is set aside, and looks for more, until ctx ends.
func (r *Repairer) Run(ctx context.Context) error {
	go r.verifyNowAndThen(ctx)
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		if err := r.Look(ctx); err != nil && ctx.Err() == nil {
			event.RepairFailed.To(r.log, "error", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// Look does what can be done about rows that are set aside.
func (r *Repairer) Look(ctx context.Context) error {
	rows, err := r.store.SetAsideRows()
	if err != nil {
		return err
	}
	handled, err := r.handled()
	if err != nil {
		return err
	}
	now := r.store.Judge().Now()
	for _, row := range rows {
		if slices.Contains(handled, row.ID) {
			continue
		}
		if err := r.repair(ctx, row, now); err != nil {
			return err
		}
	}
	return nil
}

// repair makes the rows of one row again, or waits for them, or gives them up.
func (r *Repairer) repair(ctx context.Context, row sqlite.Damaged, now time.Time) error {
	known, ok := r.store.Get(row.Series)
	if !ok {
		return nil // its definition was lost, too; it is found again with the next of its readings
	}
	tier := series.Tier(row.Tier)
	from, to := row.FirstAt, row.LastAt+max(1, row.Tier)
	there, err := r.count(ctx, &known, tier, from, to)
	if err != nil {
		return err
	}
	if there >= row.Count {
		event.Repaired.To(r.log, "series", known.Path, "tier", tier.String(), "from", time.Unix(0, from).UTC(), "to",
			time.Unix(0, to).UTC(), "rows", row.Count)
		return r.store.Mend([]uint64{row.ID})
	}
	first := r.told[row.ID].IsZero()
	switch {
	case tier != series.Readings && r.remake != nil && known.Collected && first && r.canRemake(&known, from):
		r.told[row.ID] = now
		if err := r.remake(ctx, known.ID, tier, from, to); err != nil {
			return err
		}
		return r.repair(ctx, row, now)
	case tier != series.Readings && r.again != nil && now.Sub(time.Unix(0, row.Found)) < waitAtMost:
		if first || now.Sub(r.told[row.ID]) > waitAgain {
			r.told[row.ID] = now
			if !r.again(known.Path) {
				return r.giveUp(&known, row, from, to)
			}
		}
		return nil
	}
	return r.giveUp(&known, row, from, to)
}

// canRemake reports whether all that summaries of a time are made of is here.
func (r *Repairer) canRemake(s *engine.Series, from int64) bool {
	since, ok, err := r.store.Readings(s.ID)
	return err == nil && ok && since <= from && from >= s.ThinnedTo
}

// giveUp records a gap.
func (r *Repairer) giveUp(s *engine.Series, row sqlite.Damaged, from, to int64) error {
	if err := r.gaps.Write([]records.GapChange{{Gap: records.Gap{
		Series: s.Path, From: time.Unix(0, from).UTC(), To: time.Unix(0, to).UTC(), Of: series.Tier(row.Tier).String(),
		Cause: gap.NotRepaired, Detail: records.Clip(row.Reason),
	}}}); err != nil {
		return err
	}
	event.NotRepaired.To(r.log, "series", s.Path, "tier", series.Tier(row.Tier).String(), "from", time.Unix(0, from).UTC(), "to",
		time.Unix(0, to).UTC(), "rows", row.Count)
	handled, err := r.handled()
	if err != nil {
		return err
	}
	text, err := json.Marshal(append(handled, row.ID))
	if err == nil {
		err = r.store.PutState(handledState, text)
	}
	return err
}

const handledState = "repair"

// handled returns what of what was set aside is recorded as a gap.
func (r *Repairer) handled() (ids []uint64, err error) {
	text, err := r.store.State(handledState)
	if err == nil && text != nil {
		err = json.Unmarshal(text, &ids)
	}
	return ids, err
}

// count returns how many rows of a tier there are within a time.
func (r *Repairer) count(ctx context.Context, s *engine.Series, tier series.Tier, from, to int64) (n int, err error) {
	var c counter
	err = r.store.Scan(ctx, s.ID, engine.Wanted{Tier: tier, From: from, To: to, Need: rollup.NeedAll, Keep: true}, &c)
	return c.rows, err
}
