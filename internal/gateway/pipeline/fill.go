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
	"nexocumula/internal/store/engine"
)

// fill makes tiers that a series did not have, from what there is of it. Until all of them are
// made the series keeps its old ones, and nobody looks at the new.
type fill struct {
	wanted []rollup.Tier
	jobs   []fillJob
	at     int       // the job in work
	again  time.Time // not before it is looked at once more whether the uplinks have all
	front  int64     // how far it has come; what comes later is made as windows close
	until  int64     // where it ends
}

type fillJob struct{ tier, source rollup.Tier }

// made reports that only the uplinks are waited for.
func (f *fill) made() bool { return f.at == len(f.jobs) }

// makes reports that a tier is one that the series did not have.
func (f *fill) makes(tier rollup.Tier) bool {
	return slices.ContainsFunc(f.jobs, func(j fillJob) bool { return j.tier == tier })
}

const (
	fillFor  = 50 * time.Millisecond // of each moment between rolls
	fillWait = time.Second           // from one look at the uplinks, or one handing over, to the next
	fillRows = 5000                  // of the source, or little more, in one go
)

// tiersOf returns the tiers that the rules want of a series. A quality series has the tiers of its series.
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
func (p *Pipeline) planFills(r *rules) {
	now := p.judge.Now().UnixNano()
	before := p.fills
	p.fills = map[uint32]*fill{}
	for _, s := range p.store.List(series.Everything()) {
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
	}
	if n := len(p.fills); n > 0 {
		p.log.Info("series get other tiers, made from what there is", "series", n)
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

// sourceOf returns the rows that a series' windows of a tier are made of; made is false for a tier that it
// does not have any more.
func (p *Pipeline) sourceOf(s *engine.Series, tier rollup.Tier) (source rollup.Tier, made bool) {
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
	if err := p.fillOn(ctx); err != nil {
		p.log.Error("a tier could not be made; trying again", "error", err)
	}
	p.filling.Store(int64(len(p.fills)))
}

// fillOn makes some of each, and hands over what is made and sent.
func (p *Pipeline) fillOn(ctx context.Context) error {
	began := time.Now()
	var done []uint32
	for id, f := range p.fills {
		if began.Before(f.again) {
			continue
		}
		for time.Since(began) < fillFor && !f.made() {
			if err := p.fillStep(ctx, id, f); err != nil {
				return err
			}
		}
		switch {
		case !f.made():
		case p.awaited(id, f):
			f.again = began.Add(fillWait)
		default:
			done = append(done, id)
		}
	}
	if len(done) < len(p.fills) && time.Since(p.handedOver) < fillWait {
		return nil // what is pending is written each time, so many go together
	}
	return p.handOver(ctx, done)
}

// fillStep makes some windows of a fill.
func (p *Pipeline) fillStep(ctx context.Context, id uint32, f *fill) error {
	s, ok := p.store.Get(id)
	if !ok {
		f.at = len(f.jobs)
		return nil
	}
	next := *f // which counts once it is on disk
	windows := next.some(&s)
	if f.at < next.at {
		// The last one may still be open. What closes it marks it, unless that was before.
		last := windows[max(0, len(windows)-1):]
		p.pending.Follow(last, f.jobs[f.at].tier, len(f.wanted), p.judge.Now().UnixNano())
		windows = windows[:len(windows)-len(last)]
	}
	if len(windows) > 0 {
		rows, err := p.summariseSeries(ctx, s, f.jobs[f.at].source, windows, nil)
		if err == nil && rows.Len() > 0 {
			err = p.write(ctx, engine.Batch{Entries: []engine.Entry{{Series: id, Tier: windows[0].Tier, Rows: rows}}})
		}
		if err != nil {
			return err
		}
	}
	*f = next
	return nil
}

// some are the next windows to make; after the last of a job it goes on to the next.
func (f *fill) some(s *engine.Series) (out []rollup.Window) {
	job := f.jobs[f.at]
	f.front = max(f.front, job.tier.Start(s.FirstSeen))
	most := max(1, fillRows/int(job.tier/max(job.source, rollup.Tier(time.Second))))
	for ; f.front < f.until && len(out) < most; f.front += int64(job.tier) {
		out = append(out, rollup.Window{Series: s.ID, Tier: job.tier, Start: f.front})
	}
	if f.front >= f.until {
		f.at, f.front = f.at+1, math.MinInt64
	}
	return out
}

// awaited reports that a central that has been promised the new tiers still lacks some of what was made.
func (p *Pipeline) awaited(id uint32, f *fill) bool {
	return slices.ContainsFunc(f.jobs, func(j fillJob) bool { return p.store.Outboxes.Waiting(id, j.tier, f.until) })
}
