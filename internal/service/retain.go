package service

import (
	"context"
	"slices"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/event"
)

const retainEvery = time.Hour

// retain drops what is older than it is kept, now and every hour, until ctx ends.
func (s *Service) retain(ctx context.Context) error {
	tick := time.NewTicker(retainEvery)
	defer tick.Stop()
	for {
		if doubt := s.Store.Judge().Doubt(); doubt != "" {
			event.ClockDoubt.To(s.log, "clock", doubt)
		} else {
			s.dropOld(ctx, series.Everything(), s.Store.Judge().Now())
			if err := s.Store.Gaps.Drop(s.Store.Judge().Now()); err != nil {
				event.GapsUndropped.To(s.log, "error", err)
			}
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// dropOld goes through the series once. What cannot be dropped now can be an hour
// later.
func (s *Service) dropOld(ctx context.Context, selector series.Selector, now time.Time) {
	keep := s.settings.Load().Keep
	var tiers []series.Tier
	for _, k := range keep {
		if !slices.Contains(tiers, k.Tier) {
			tiers = append(tiers, k.Tier)
		}
	}
	var giveUp time.Time
	if s.giveUp > 0 {
		giveUp = now.Add(-s.giveUp)
	}
	for _, one := range s.Store.List(selector) {
		for _, tier := range tiers {
			kept := config.KeptFor(keep, one.Path, tier)
			if kept == 0 || one.FirstSeen == 0 || one.FirstSeen > now.Add(-kept).UnixNano() {
				continue
			}
			rows, err := s.Store.Drop(ctx, one.ID, tier, now.Add(-kept), giveUp)
			s.dropped.Add(uint64(rows))
			if err == nil && one.Sketch && tier == widest(&one.Definition) { // they are kept as long as the summaries they go with
				err = s.Store.DropSketches(ctx, one.ID, now.Add(-kept), giveUp)
			}
			if rows > 0 {
				event.Dropped.To(s.log, "series", one.Path, "tier", tier.String(),
					"kept", span.Format(kept), "rows", rows)
			}
			if err != nil && ctx.Err() == nil {
				event.DropFailed.To(s.log, "series", one.Path, "tier", tier.String(), "error", err)
			}
		}
	}
}

// widest returns the widest tier of a series.
func widest(of *series.Definition) series.Tier {
	tiers := of.Tiers.All()
	return tiers[len(tiers)-1]
}

// tidy gives free pages of the store back, a few at a time, until ctx ends.
func (s *Service) tidy(ctx context.Context) error {
	tick := time.NewTicker(tidyEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if err := s.Store.Tidy(); err != nil {
				event.PagesKept.To(s.log, "error", err)
			}
		case <-ctx.Done():
			return nil
		}
	}
}
