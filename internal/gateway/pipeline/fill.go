package pipeline

import (
	"context"
	"math"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

// fill makes tiers that a series did not have, from what there is of it. Until all of them are
// made the series keeps its old ones, and nobody looks at the new.
type fill struct {
	wanted []rollup.Tier
	jobs   []fillJob
	at     int   // the job in work
	front  int64 // how far it has come; what comes later is made as windows close
	until  int64 // where it ends
}

type fillJob struct{ tier, source rollup.Tier }

const (
	fillFor  = 50 * time.Millisecond // of each moment between rolls
	fillRows = 5000                  // of the source, or little more, in one go
)

// tiersOf are those that the rules want of a series. The quality of another has its tiers.
func (r *rules) tiersOf(path series.Path) []rollup.Tier {
	rule := config.RuleOf(r.rules, path)
	if of, ok := strings.CutSuffix(string(path), "/"+config.QualityLevel); ok {
		if marked := config.RuleOf(r.rules, series.Path(of)); marked.Marks() {
			rule = marked
		}
	}
	def := rule.Definition(path)
	return rollup.TiersOf(&def)
}

// planFills begins to make the tiers that the rules want and series do not have.
func (p *Pipeline) planFills() {
	if !p.newRules.Swap(false) {
		return
	}
	r := p.rules.Load()
	now := p.judge.Now().UnixNano()
	everything, _ := series.ParseSelector("#")
	before := p.fills
	p.fills = map[uint32]*fill{}
	for _, s := range p.store.List(everything) {
		wanted, have := r.tiersOf(s.Path), rollup.TiersOf(&s.Definition)
		if !s.Collected || slices.Equal(wanted, have) {
			continue
		}
		if f := before[s.ID]; f != nil && slices.Equal(f.wanted, wanted) {
			p.fills[s.ID] = f
			continue
		}
		if s.ThinnedTo != 0 && slices.ContainsFunc(wanted, func(t rollup.Tier) bool { return !slices.Contains(have, t) && sourceFor(t, have) == rollup.Readings }) {
			p.log.Error("a series keeps its tiers: readings of it were thinned, and there is no tier that the new ones could be made of", "series", s.Path, "has", rollup.List(have), "wanted", rollup.List(wanted))
			continue
		}
		f := &fill{wanted: wanted, front: math.MinInt64, until: now}
		sources := slices.Clone(have)
		for _, tier := range wanted {
			if !slices.Contains(have, tier) {
				f.jobs = append(f.jobs, fillJob{tier, sourceFor(tier, sources)})
				sources = append(sources, tier)
			}
		}
		p.fills[s.ID] = f
		p.log.Info("tiers are made from what there is", "series", s.Path, "has", rollup.List(have), "wanted", rollup.List(wanted))
	}
}

// sourceFor is the widest tier of some that another can be made of.
func sourceFor(tier rollup.Tier, of []rollup.Tier) (source rollup.Tier) {
	for _, t := range of {
		if t < tier && tier%t == 0 {
			source = max(source, t)
		}
	}
	return source
}

// sourceOf is what a series' windows of a tier are made of; made is false of a tier that it
// does not have any more.
func (p *Pipeline) sourceOf(s *store.Series, tier rollup.Tier) (source rollup.Tier, made bool) {
	tiers := rollup.TiersOf(&s.Definition)
	switch i := slices.Index(tiers, tier); {
	case i > 0:
		return tiers[i-1], true
	case i == 0:
		return rollup.Readings, true
	}
	if f := p.fills[s.ID]; f != nil {
		if i := slices.IndexFunc(f.jobs, func(j fillJob) bool { return j.tier == tier }); i >= 0 {
			return f.jobs[i].source, true
		}
	}
	return 0, false
}

// fillSome goes on with the fills for a moment.
func (p *Pipeline) fillSome(ctx context.Context) {
	began := time.Now()
	for id, f := range p.fills {
		for time.Since(began) < fillFor {
			done, err := p.fillStep(ctx, id, f)
			if err != nil {
				p.log.Error("a tier could not be made; trying again", "error", err)
				return
			}
			if done {
				delete(p.fills, id)
				break
			}
			if f.at == len(f.jobs) {
				break // it waits for the uplinks
			}
		}
	}
}

// fillStep makes some windows of a fill, and is done when all are made and sent.
func (p *Pipeline) fillStep(ctx context.Context, id uint32, f *fill) (done bool, err error) {
	s, ok := p.store.Get(id)
	if !ok {
		return true, nil
	}
	if f.at == len(f.jobs) {
		return p.fillEnd(ctx, s, f)
	}
	job := f.jobs[f.at]
	if first := job.tier.Start(s.FirstSeen); f.front < first {
		f.front = first
	}
	var windows []rollup.Window
	for most := max(1, fillRows/int(job.tier/max(job.source, rollup.Tier(time.Second)))); f.front < f.until && len(windows) < most; f.front += int64(job.tier) {
		windows = append(windows, rollup.Window{Series: id, Tier: job.tier, Start: f.front})
	}
	if f.front >= f.until {
		// The last one may still be open. What closes it marks it, unless that was before.
		p.pending.Follow(windows[max(0, len(windows)-1):], job.tier, p.judge.Now().UnixNano())
		windows = windows[:max(0, len(windows)-1)]
		f.at, f.front = f.at+1, math.MinInt64
	}
	if len(windows) == 0 {
		return false, nil
	}
	rows, err := p.summariseSeries(s, job.source, windows)
	if err != nil || rows.Len() == 0 {
		return false, err
	}
	return false, p.append(ctx, store.Batch{Entries: []store.Entry{{Series: id, Tier: job.tier, Rows: rows}}})
}

// fillEnd gives the series its new tiers, once no central that has been promised them lacks
// any of what was made.
func (p *Pipeline) fillEnd(ctx context.Context, s store.Series, f *fill) (done bool, err error) {
	for _, job := range f.jobs {
		if p.store.Waiting(s.ID, job.tier, f.until) {
			return false, nil
		}
	}
	def := s.Definition
	def.Tiers = rollup.Names(f.wanted)
	if _, err := untilWritten(ctx, p, func() ([]uint32, error) { return p.store.Define([]series.Definition{def}) }); err != nil {
		return false, err
	}
	p.log.Info("tiers are made", "series", s.Path, "tiers", rollup.List(f.wanted))
	return true, nil
}
