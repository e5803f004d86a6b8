package room

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
)

// Store is what the keeper asks of a store.
type Store interface {
	Judge() *clock.Judge
	Used(readings bool) (engine.Used, error)
	List(series.Selector) []engine.Series
	Oldest(tier series.Tier) (at int64, ok bool, err error)
	MakeRoom(ctx context.Context, id uint32, way engine.Way, also func(from, to int64) sqlite.Change) (rows int, err error)
	Hold(why string)
}

// Keeper keeps a store within its limits.
type Keeper struct {
	store  Store
	gaps   records.Gaps
	limits func() config.Room
	log    *slog.Logger

	mu      sync.Mutex
	dropped uint64 // rows since the start
	last    string // what was dropped last, in words
	lastAt  time.Time
	held    string // why nothing more is taken in
}

// New makes a keeper; Run starts it.
func New(st Store, gaps records.Gaps, limits func() config.Room, log *slog.Logger) *Keeper {
	return &Keeper{store: st, gaps: gaps, limits: limits, log: log}
}

const (
	lookEvery = 5 * time.Second
	keepLeast = 24 * time.Hour // what is newer is not dropped, however full the disk is
	parts     = 50             // of the time that there is something of, one is dropped in a go
	leastPart = time.Hour
	tellFor   = 24 * time.Hour // that something was dropped
)

// Run looks now and then, until ctx ends.
func (k *Keeper) Run(ctx context.Context) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		if err := k.Look(ctx); err != nil && ctx.Err() == nil {
			event.RoomFailed.To(k.log, "error", err)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// Look makes room if there has to be some. While the clock is in doubt nothing is dropped, as nobody knows what is old.
func (k *Keeper) Look(ctx context.Context) error {
	passed, err := k.make(ctx)
	if err != nil {
		return err
	}
	if passed != "" {
		passed += ", and nothing more may be dropped: senders wait; free some of the disk, allow more, or let uplinks send what waits"
	}
	k.mu.Lock()
	changed := k.held != passed
	k.held = passed
	k.mu.Unlock()
	if changed {
		k.store.Hold(passed)
	}
	return nil
}

// make drops what may be dropped until the store is within its limits; passed says which it is still beyond.
func (k *Keeper) make(ctx context.Context) (passed string, err error) {
	all, readings, passed, err := k.excess()
	if err != nil || all == 0 && readings == 0 || k.store.Judge().Doubt() != "" {
		return passed, err
	}
	for _, way := range k.ways() {
		oldest, ok, err := k.store.Oldest(way.Tier)
		if err != nil {
			return passed, err
		}
		end := k.store.Judge().Now().Add(-keepLeast).UnixNano()
		for part := max(int64(leastPart), (end-oldest)/parts); ok && oldest < end; {
			if all == 0 && (way.Tier != series.Readings || readings == 0) {
				break
			}
			oldest = min(end, oldest+part)
			if err := k.drop(ctx, way, oldest); err != nil {
				return passed, err
			}
			if all, readings, passed, err = k.excess(); err != nil {
				return passed, err
			}
		}
	}
	return passed, nil
}

func (k *Keeper) excess() (all, readings uint64, passed string, err error) {
	limits := k.limits()
	used, err := k.store.Used(limits.Readings != 0)
	if err != nil {
		return 0, 0, "", err
	}
	all, readings, passed = excess(limits, used)
	return all, readings, passed, nil
}

// ways are those in which room is made, in order: readings whose summaries are acknowledged, then acknowledged
// summaries, the narrow before the wide; and where that is allowed, the same of what no central has.
func (k *Keeper) ways() (out []engine.Way) {
	tiers := []series.Tier{series.Readings}
	widest := series.Readings
	for _, s := range k.store.List(series.Everything()) {
		for _, tier := range s.Tiers.All() {
			if !slices.Contains(tiers, tier) {
				tiers = append(tiers, tier)
			}
			widest = max(widest, tier)
		}
	}
	slices.Sort(tiers)
	for _, unsent := range []bool{false, true} {
		if unsent && !k.limits().Unsent {
			break
		}
		for _, tier := range tiers {
			if tier == series.Readings || tier != widest {
				out = append(out, engine.Way{Tier: tier, Unsent: unsent})
			}
		}
	}
	return out
}

// drop drops what there is of all series before a time.
func (k *Keeper) drop(ctx context.Context, way engine.Way, before int64) error {
	way.Before = before
	var rows int
	for _, s := range k.store.List(series.Everything()) {
		if s.FirstSeen == 0 || s.FirstSeen >= before {
			continue
		}
		n, err := k.store.MakeRoom(ctx, s.ID, way, func(from, to int64) sqlite.Change {
			return k.gaps.Extend(records.Gap{
				Series: s.Path, From: time.Unix(0, from).UTC(), To: time.Unix(0, to).UTC(), Of: way.Tier.String(), Cause: gap.Dropped,
				Detail: detail(way),
			})
		})
		rows += n
		if err != nil {
			return err
		}
	}
	if rows == 0 {
		return nil
	}
	k.gaps.Announce()
	at := time.Unix(0, before).UTC()
	event.RoomMade.To(k.log, "tier", way.Tier.String(), "before", at, "rows", rows, "unsent", way.Unsent)
	k.mu.Lock()
	defer k.mu.Unlock()
	k.dropped += uint64(rows)
	k.last = fmt.Sprintf("%s of before %s were dropped to make room; nexocumula gaps --cause dropped lists them",
		map[bool]string{true: "readings", false: "summaries of " + way.Tier.String()}[way.Tier == series.Readings],
		at.Format(time.RFC3339))
	k.lastAt = k.store.Judge().Now()
	return nil
}

func detail(way engine.Way) string {
	if way.Unsent {
		return "to make room; no central has them"
	}
	return "to make room"
}

// Troubles says what was dropped of late, and why nothing more is taken in.
func (k *Keeper) Troubles() (out []string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.held != "" {
		out = append(out, k.held)
	}
	if k.last != "" && k.store.Judge().Now().Sub(k.lastAt) < tellFor {
		out = append(out, k.last)
	}
	return out
}

// Dropped counts rows that were dropped since the start.
func (k *Keeper) Dropped() uint64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.dropped
}
