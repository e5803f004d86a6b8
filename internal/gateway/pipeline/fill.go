package pipeline

import (
	"context"
	"log/slog"
	"math"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

// fill makes tiers that a series did not have, from what there is of it. Until all of them are
// made the series keeps its old ones, and nobody looks at the new.
type fill struct {
	wanted series.Tiers
	jobs   []fillJob
	at     int       // the job in work
	again  time.Time // not before it is looked at once more whether the uplinks have all
	front  int64     // how far it has come; what comes later is made as windows close
	until  int64     // where it ends
}

type fillJob struct{ tier, source series.Tier }

// made reports that only the uplinks are waited for.
func (f *fill) made() bool { return f.at == len(f.jobs) }

// makes reports that a tier is one that the series did not have.
func (f *fill) makes(tier series.Tier) bool {
	return slices.ContainsFunc(f.jobs, func(j fillJob) bool { return j.tier == tier })
}

const (
	fillFor  = 50 * time.Millisecond // of each moment between rolls
	fillWait = time.Second           // from one look at the uplinks, or one handing over, to the next
	fillRows = 5000                  // of the source, or little more, in one go
)

// fills holds the fills in progress, by series id.
type fills struct{ of map[uint32]*fill }

// filler makes other tiers of series, a little between commits. The committing goroutine owns it.
type filler struct {
	store   fillerStore
	writer  *writer
	roller  *roller
	sealer  *sealer
	uplinks awaiting
	judge   *clock.Judge
	log     *slog.Logger

	fills      *fills
	handedOver time.Time    // when some last got their tiers
	filling    atomic.Int64 // series that get other tiers
}

// fillerStore is what the filler asks of the store.
type fillerStore interface {
	appender
	Get(id uint32) (engine.Series, bool)
	List(selector series.Selector) []engine.Series
	Update(ctx context.Context, ids []uint32, change func(id uint32, def *series.Definition)) error
	MarkLate(id uint32, l engine.LateStretch)
	PutState(name string, payload []byte) error
}

// awaiting are the uplinks.
type awaiting interface {
	// Waiting reports whether any still has to send summaries of a series' tier of before a time.
	Waiting(id uint32, tier series.Tier, before int64) bool
}

// tiersOf returns the tiers that the rules want of a series. A quality series has the tiers of its series.
func (r *rules) tiersOf(path series.Path) series.Tiers {
	rule := config.RuleOf(r.rules, path)
	if of, ok := strings.CutSuffix(string(path), "/"+config.QualityLevel); ok {
		if marked := config.RuleOf(r.rules, series.Path(of)); marked.Marks() {
			rule = marked
		}
	}
	return rule.Tiers
}

// planFills begins to make the tiers that the rules want and series do not have.
func (fl *filler) planFills(r *rules) {
	now := fl.judge.Now().UnixNano()
	before := fl.fills.of
	fl.fills.of = map[uint32]*fill{}
	for _, s := range fl.store.List(series.Everything()) {
		get := r.tiersOf(s.Path)
		if !s.Collected || get == s.Tiers {
			continue
		}
		if f := before[s.ID]; f != nil && f.wanted == get {
			fl.fills.of[s.ID] = f
			continue
		}
		wanted, have := get.All(), s.Tiers.All()
		if s.ThinnedTo != 0 && slices.ContainsFunc(wanted, func(t series.Tier) bool {
			return !slices.Contains(have, t) && sourceFor(t, have) == series.Readings
		}) {
			event.TiersKept.To(fl.log, "series", s.Path, "has", s.Tiers.Texts(), "wanted", get.Texts())
			continue
		}
		f := &fill{wanted: get, front: math.MinInt64, until: now}
		sources := slices.Clone(have)
		for _, tier := range wanted {
			if !slices.Contains(have, tier) {
				f.jobs = append(f.jobs, fillJob{tier, sourceFor(tier, sources)})
				sources = append(sources, tier)
			}
		}
		fl.fills.of[s.ID] = f
	}
	if n := len(fl.fills.of); n > 0 {
		event.TiersBegun.To(fl.log, "series", n)
	}
}

// sourceFor returns the widest tier of some that another can be made of.
func sourceFor(tier series.Tier, of []series.Tier) (source series.Tier) {
	for _, t := range of {
		if t < tier && tier%t == 0 {
			source = max(source, t)
		}
	}
	return source
}

// sourceOf returns the rows that a series' windows of a tier are made of; made is false for a tier that it
// does not have any more.
func (r *roller) sourceOf(s *engine.Series, tier series.Tier) (source series.Tier, made bool) {
	tiers := s.Tiers.All()
	switch i := slices.Index(tiers, tier); {
	case i > 0:
		return tiers[i-1], true
	case i == 0:
		return series.Readings, true
	}
	if f := r.fills.of[s.ID]; f != nil {
		if i := slices.IndexFunc(f.jobs, func(j fillJob) bool { return j.tier == tier }); i >= 0 {
			return f.jobs[i].source, true
		}
	}
	return 0, false
}

// fillSome goes on with the fills for a moment.
func (fl *filler) fillSome(ctx context.Context) {
	if err := fl.fillOn(ctx); err != nil {
		event.TierFailed.To(fl.log, "error", err)
	}
	fl.filling.Store(int64(len(fl.fills.of)))
}

// fillOn makes some of each, and hands over what is made and sent.
func (fl *filler) fillOn(ctx context.Context) error {
	began := fl.judge.Now()
	var done []uint32
	for id, f := range fl.fills.of {
		if began.Before(f.again) {
			continue
		}
		for fl.judge.Now().Sub(began) < fillFor && !f.made() {
			if err := fl.fillStep(ctx, id, f); err != nil {
				return err
			}
		}
		switch {
		case !f.made():
		case fl.awaited(id, f):
			f.again = began.Add(fillWait)
		default:
			done = append(done, id)
		}
	}
	if len(done) < len(fl.fills.of) && fl.judge.Now().Sub(fl.handedOver) < fillWait {
		return nil // what is pending is written each time, so many go together
	}
	return fl.handOver(ctx, done)
}

// fillStep makes some windows of a fill.
func (fl *filler) fillStep(ctx context.Context, id uint32, f *fill) error {
	s, ok := fl.store.Get(id)
	if !ok {
		f.at = len(f.jobs)
		return nil
	}
	next := *f // which counts once it is on disk
	windows := next.some(&s)
	if f.at < next.at {
		// The last one may still be open. What closes it marks it, unless that was before.
		last := windows[max(0, len(windows)-1):]
		fl.roller.pending.Follow(last, f.jobs[f.at].tier, len(f.wanted.All()), fl.judge.Now().UnixNano())
		windows = windows[:len(windows)-len(last)]
	}
	if len(windows) > 0 {
		rows, err := fl.roller.summariseSeries(ctx, s, f.jobs[f.at].source, windows, nil)
		if err == nil && rows.Len() > 0 {
			err = fl.writer.write(ctx, fl.store,
				engine.Batch{Entries: []engine.Entry{{Series: id, Tier: windows[0].Tier, Rows: rows}}})
		}
		if err != nil {
			return err
		}
	}
	*f = next
	return nil
}

// some returns the next windows to make; after the last of a job it goes on to the next.
func (f *fill) some(s *engine.Series) (out []rollup.Window) {
	job := f.jobs[f.at]
	f.front = max(f.front, job.tier.Start(s.FirstSeen))
	most := max(1, fillRows/int(job.tier/max(job.source, series.Tier(time.Second))))
	for ; f.front < f.until && len(out) < most; f.front += int64(job.tier) {
		out = append(out, rollup.Window{Series: s.ID, Tier: job.tier, Start: f.front})
	}
	if f.front >= f.until {
		f.at, f.front = f.at+1, math.MinInt64
	}
	return out
}

// awaited reports that a central that has been promised the new tiers still lacks some of what was made.
func (fl *filler) awaited(id uint32, f *fill) bool {
	return slices.ContainsFunc(f.jobs, func(j fillJob) bool { return fl.uplinks.Waiting(id, j.tier, f.until) })
}
