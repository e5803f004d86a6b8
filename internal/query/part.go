package query

import (
	"context"
	"slices"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// part is a part of a query's range and the tiers it is answered from, the widest first: where
// one ends, because its windows are not made yet, the next goes on.
type part struct {
	from, to int64
	tiers    []series.Tier
	guided   bool // of the summaries of the first tier, only those count that tell as much as the readings
}

// parts returns the whole range; or, when the summaries of some of it do not say yet what the
// readings do, what is before, these readings, and what is after. Between them stand the narrowest
// summaries, to where a window of the plan's tier begins.
func parts(s *engine.Series, p *window.Plan, stats []window.Stat) []part {
	tiers := tiersFor(s, p)
	guide, guided := guideOf(s, p, stats)
	if guided {
		tiers = append([]series.Tier{guide}, tiers...)
	}
	whole := part{p.From(), p.To(), tiers, guided}
	if tiers[0] == series.Readings || !s.Collected {
		return []part{whole}
	}
	narrow := tiers[len(tiers)-2:]
	inner, outer := int64(narrow[0]), common(int64(tiers[0]), int64(quarter))
	down := func(t, width int64) int64 { return max(t-t%width, whole.from) }
	up := func(t, width int64) int64 { return min((t+width-1)/width*width, whole.to) }
	late, ok := s.Late.Within(max(whole.from, up(s.ThinnedTo, inner)), whole.to)
	if !ok {
		return []part{whole}
	}
	return []part{
		{whole.from, down(late.From, outer), tiers, guided},
		{down(late.From, outer), down(late.From, inner), narrow, guided},
		{down(late.From, inner), up(late.To, inner), narrow[1:], false},
		{up(late.To, inner), up(late.To, outer), narrow, guided},
		{up(late.To, outer), whole.to, tiers, guided},
	}
}

// common returns the least that is a multiple of both.
func common(a, b int64) int64 {
	x, y := a, b
	for y != 0 {
		x, y = y, x%y
	}
	return a / x * b
}

// tiersFor returns the tiers that answer a plan, widest first.
func tiersFor(s *engine.Series, p *window.Plan) []series.Tier {
	if p.Tier == series.Readings {
		return []series.Tier{series.Readings}
	}
	have := s.Tiers.All()
	out := slices.Clone(have[:slices.Index(have, p.Tier)+1])
	slices.Reverse(out)
	if s.Collected {
		out = append(out, series.Readings)
	}
	return out
}

func (of part) feed(ctx context.Context, src Source, s engine.Series, p *window.Plan, stats []window.Stat, ahead *engine.Prefetch, to *tail, work *engine.ScanStats) error {
	to.next = max(to.next, of.from)
	for i, tier := range of.tiers {
		if to.next >= of.to || i > 0 && to.next > s.LastTime {
			break // there is nothing newer
		}
		want := firstWanted(&s, p, stats)
		first := want.Tier
		want.From, want.To, want.Work, want.Ahead = of.from, of.to, work, ahead
		if i > 0 {
			want.From, want.Steps = to.next, false
		}
		if want.Tier != tier {
			want.Tier, want.Steps = tier, false
		}
		want.Steps = want.Steps && of.from%int64(quarter) == 0 && of.to%int64(quarter) == 0 // no step is cut
		if tier == series.Readings && first != series.Readings {
			want.From = max(want.From, s.ThinnedTo) // of earlier ones not all are here
		}
		if to.Conditions() {
			want.Tells = to.Tells
		}
		var err error
		if of.guided && tier != series.Readings {
			err = guided(ctx, src, s, want, to)
		} else {
			err = src.Store.Scan(ctx, s.ID, want, to)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
