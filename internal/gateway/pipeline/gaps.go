package pipeline

import (
	"log/slog"
	"math"
	"strings"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
)

// gapKeeper records the gaps of series: those that readings end or fill in the transaction of the readings, and
// those that go on when nothing has come for longer than it should. The committing goroutine owns it.
type gapKeeper struct {
	store gapStore
	kept  records.Gaps
	judge *clock.Judge
	log   *slog.Logger

	matters *matters
	every   func(series.Path) time.Duration // how often a series was heard lately, if regularly
	started time.Time

	latest map[uint32]int64 // the end of the latest gap of a series; goesOn while it has none
	next   uint32           // the series that is looked at next, whether it is silent
	failed bool             // what could not be kept was said
}

// gapStore is what the keeper of gaps asks of the store.
type gapStore interface {
	Get(id uint32) (engine.Series, bool)
	Find(path series.Path) (engine.Series, bool)
	LastID() uint32
}

const goesOn = math.MaxInt64

func newGapKeeper(st gapStore, kept records.Gaps, m *matters, every func(series.Path) time.Duration, log *slog.Logger) (*gapKeeper, error) {
	k := &gapKeeper{
		store: st, kept: kept, judge: m.judge, log: log, matters: m, every: every, started: m.judge.Now(),
		latest: map[uint32]int64{},
	}
	latest, err := kept.Latest()
	if err != nil {
		return nil, err
	}
	for path, end := range latest {
		if known, ok := st.Find(path); ok {
			if end == 0 {
				end = goesOn
			}
			k.latest[known.ID] = end
		}
	}
	return k, nil
}

// newestReading returns the time of the newest reading that is here, of those that are not ahead of the clock.
func newestReading(st *store.Store) (newest time.Time) {
	now := st.Judge().Now()
	for id := range st.LastID() {
		if s, ok := st.Get(id + 1); ok && s.Collected {
			if at := time.Unix(0, s.LastTime); at.After(newest) && at.Before(now) {
				newest = at
			}
		}
	}
	return newest
}

// disturbed is a series whose gaps readings may change.
type disturbed struct {
	series engine.Series // before them
	times  []int64
	rhythm gap.Rhythm
}

// disturbs returns whether the readings of a series may change its gaps. Nearly always they do not.
func (k *gapKeeper) disturbs(s engine.Series, times []int64) (d disturbed, yes bool) {
	if isQuality(s.Path) {
		return d, false // it has the gaps of its series
	}
	d = disturbed{series: s, times: times, rhythm: gap.Rhythm{FreshFor: s.FreshFor, Every: s.Every}}
	latest, any := k.latest[s.ID]
	switch {
	case any && latest == goesOn:
		yes = true
	case any && times[0]-int64(s.FreshFor) < latest:
		yes = true // it may fall into one
	case s.FirstSeen != 0 && times[0] < s.FirstSeen:
		yes = true // they may leave one before the first
	}
	before, least := s.LastTime, d.rhythm.Patience()
	for _, t := range times {
		if before != 0 && t-before > least {
			yes = true
		}
		before = max(before, t)
	}
	if yes && s.Every == 0 {
		d.rhythm.Every = k.every(s.Path)
	}
	return d, yes
}

func isQuality(path series.Path) bool {
	return strings.HasSuffix(string(path), "/"+config.QualityLevel)
}

// change returns what has to be written for series that were disturbed, and what follows once it is.
func (k *gapKeeper) change(all []disturbed) (change sqlite.Change, done func()) {
	var changes []records.GapChange
	paths, from := make([]series.Path, len(all)), int64(math.MaxInt64)
	for i, d := range all {
		paths[i], from = d.series.Path, min(from, d.times[0]-int64(d.rhythm.FreshFor))
	}
	change = k.kept.Change(paths, time.Unix(0, from), func(known map[series.Path][]records.Gap) ([]records.GapChange, error) {
		changes = nil
		oldest := from
		for _, d := range all {
			if d.series.LastTime != 0 {
				oldest = min(oldest, d.series.LastTime)
			}
		}
		matter, err := k.matters.since(oldest)
		if err != nil {
			return nil, err
		}
		for _, d := range all {
			changes = append(changes, k.changesOf(d, known[d.series.Path], matter)...)
		}
		return changes, nil
	})
	return change, func() {
		for _, d := range all {
			if k.latest[d.series.ID] == goesOn {
				k.latest[d.series.ID] = d.series.LastTime + int64(d.series.FreshFor)
			}
		}
		for _, c := range changes {
			if known, ok := k.store.Find(c.Series); ok && !c.Gone {
				k.latest[known.ID] = max(k.latest[known.ID], c.To.UnixNano())
			}
		}
		if len(changes) > 0 {
			k.kept.Announce()
		}
	}
}

// changesOf compares the readings of a series with its gaps.
func (k *gapKeeper) changesOf(d disturbed, known []records.Gap, of matter) (out []records.GapChange) {
	bySpan := map[gap.Span]records.Gap{}
	var spans []gap.Span
	for _, g := range known {
		if g.Of != "" || !g.Cause.OfSilence() {
			continue
		}
		s := gap.Span{From: g.From.UnixNano()}
		if !g.To.IsZero() {
			s.To = g.To.UnixNano()
		}
		bySpan[s] = g
		spans = append(spans, s)
	}
	found := gap.After(gap.Seen{First: d.series.FirstSeen, Last: d.series.LastTime}, d.times, spans, d.rhythm)
	for _, s := range found.Made {
		why := k.matters.explain(d.series, s.From, s.To, of)
		out = append(out, records.GapChange{Gap: gapOf(d.series.Path, s, why)})
	}
	for before, left := range found.Changed {
		g := bySpan[before]
		if len(left) == 0 {
			out = append(out, records.GapChange{Gap: g, Gone: true})
			continue
		}
		why := gap.Episode{Cause: g.Cause, Detail: g.Detail}
		if before.Open() {
			why = k.matters.explain(d.series, left[0].From, left[0].To, of)
		}
		for i, s := range left {
			part := gapOf(d.series.Path, s, why)
			if i == 0 {
				part.ID = g.ID
			}
			out = append(out, records.GapChange{Gap: part})
		}
	}
	return out
}

func gapOf(path series.Path, s gap.Span, why gap.Episode) records.Gap {
	out := records.Gap{
		Series: path, From: time.Unix(0, s.From).UTC(), Cause: why.Cause, Detail: records.Clip(why.Detail),
	}
	if !s.Open() {
		out.To = time.Unix(0, s.To).UTC()
	}
	return out
}

const (
	looksPerRound = 2000            // series that are looked at in one go
	settleIn      = 2 * time.Minute // after the start, in which devices come back
)

// lookForSilence begins the gaps of some series that have not been heard for too long.
func (k *gapKeeper) lookForSilence() {
	k.matters.watch()
	if k.judge.Now().Sub(k.started) < settleIn || k.judge.Doubt() != "" {
		return
	}
	silent := k.silent(k.judge.Now().UnixNano())
	if len(silent) == 0 {
		return
	}
	oldest := int64(math.MaxInt64)
	for _, s := range silent {
		oldest = min(oldest, s.LastTime)
	}
	matter, err := k.matters.since(oldest)
	if err == nil {
		changes := make([]records.GapChange, len(silent))
		for i, s := range silent {
			begun := gap.Span{From: s.LastTime + int64(s.FreshFor)}
			changes[i] = records.GapChange{Gap: gapOf(s.Path, begun, k.matters.explainSilence(s, matter))}
		}
		err = k.kept.Write(changes)
	}
	if err == nil {
		for _, s := range silent {
			k.latest[s.ID] = goesOn
		}
	}
	k.unkept(err)
}

// silent returns, of the series that are next, those whose silence is longer than it should be, and not known.
func (k *gapKeeper) silent(now int64) (out []engine.Series) {
	last := k.store.LastID()
	for range min(looksPerRound, last) {
		if k.next++; k.next > last {
			k.next = 1
		}
		s, ok := k.store.Get(k.next)
		if !ok || !s.Collected || s.LastTime == 0 || k.latest[k.next] == goesOn || isQuality(s.Path) {
			continue
		}
		rhythm, silence := gap.Rhythm{FreshFor: s.FreshFor, Every: s.Every}, now-s.LastTime
		if silence > rhythm.Patience() && s.Every == 0 {
			rhythm.Every = k.every(s.Path)
		}
		if silence > rhythm.Patience() {
			out = append(out, s)
		}
	}
	return out
}

// unkept says once that gaps that go on cannot be kept; they are looked for again.
func (k *gapKeeper) unkept(err error) {
	if err != nil && !k.failed {
		event.GapsUnkept.To(k.log, "error", err)
	}
	k.failed = err != nil
}
