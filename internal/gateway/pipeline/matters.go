package pipeline

import (
	"slices"
	"strings"
	"sync"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
)

// matters knows what was the matter at which time, as far as that explains why readings did not come.
type matters struct {
	links   records.Links
	judge   *clock.Judge
	from    func(series.Path) (source, place string) // where the last reading of a series came from
	off     []gap.Episode                            // when this gateway was off, in order
	started int64

	mu        sync.Mutex
	failing   func() (text string, since time.Time)                    // why the disk cannot be written
	absent    func(source, place string, from, to int64) []gap.Episode // of units behind a source; may be nil
	past      []gap.Episode                                            // of disk and clock, in order
	doubt     gap.Episode                                              // that goes on; zero: none
	unwritten gap.Episode                                              // the disk cannot be written; zero: it can
	rejected  map[series.Path]gap.Episode
}

const (
	mostPast     = 1000
	mostRejected = 100_000
)

// newMatters reads when the gateway was off: between the runs that are known, and since the
// newest reading.
func newMatters(links records.Links, judge *clock.Judge, newest time.Time) (*matters, error) {
	now := judge.Now()
	m := &matters{links: links, judge: judge, started: now.UnixNano(), rejected: map[series.Path]gap.Episode{}}
	runs, err := links.Runs(time.Unix(0, 0), now)
	if err != nil {
		return nil, err
	}
	var last time.Time
	for _, r := range runs {
		if last.IsZero() {
			m.off = append(m.off, gap.Episode{To: r.From.UnixNano(), Cause: gap.Unknown, Detail: "before this gateway's first run"})
		} else {
			m.off = append(m.off, wasOff(last, r.From))
		}
		if r.To.After(last) {
			last = r.To
		}
	}
	if newest.After(last) && newest.Before(now) {
		last = newest // it was killed, or the power failed, since it last noted that it ran
	}
	if last.IsZero() {
		m.off = append(m.off, gap.Episode{To: m.started, Cause: gap.Unknown, Detail: "before this gateway's first run"})
	} else {
		m.off = append(m.off, wasOff(last, now))
	}
	return m, nil
}

func wasOff(from, to time.Time) gap.Episode {
	return gap.Episode{
		From: from.UnixNano(), To: to.UnixNano(), Cause: gap.GatewayOff,
		Detail: "off from " + from.UTC().Format(time.RFC3339) + " to " + to.UTC().Format(time.RFC3339),
	}
}

// watch looks at the clock and the disk now and then.
func (m *matters) watch() {
	now := m.judge.Now()
	m.mu.Lock()
	defer m.mu.Unlock()
	m.doubt = m.follow(m.doubt, m.judge.Doubt(), gap.ClockInDoubt, now, now)
	text, since := m.failing()
	m.unwritten = m.follow(m.unwritten, text, gap.DiskFull, since, now)
}

// follow goes on with an episode, begins or ends it.
func (m *matters) follow(e gap.Episode, text string, cause gap.Cause, since, now time.Time) gap.Episode {
	switch {
	case text != "" && e.Cause == "":
		return gap.Episode{From: since.UnixNano(), To: now.UnixNano(), Cause: cause, Detail: text}
	case text != "":
		e.To = now.UnixNano()
		return e
	case e.Cause != "":
		e.To = now.UnixNano()
		if m.past = append(m.past, e); len(m.past) > mostPast {
			m.past = m.past[1:]
		}
	}
	return gap.Episode{}
}

// refused notes that readings of series were rejected by rules.
func (m *matters) refused(rejects []reading.Reject) {
	if len(rejects) == 0 {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, r := range rejects {
		if r.Reading == nil || r.Reading.Path == "" {
			continue
		}
		at, path := r.Reading.Time, r.Reading.Path
		if off := r.Time - at; off > int64(24*time.Hour) || off < -int64(time.Hour) {
			at = r.Time // what is wrong is its time
		}
		e, known := m.rejected[path]
		switch {
		case !known && len(m.rejected) >= mostRejected:
			continue
		case known && e.Detail == r.Rule && at >= e.From:
			e.To = max(e.To, at)
		default:
			e = gap.Episode{From: at, To: at, Cause: gap.RejectedRule, Detail: r.Rule}
		}
		m.rejected[path] = e
	}
}

// matter is what went on at the gateway as a whole, and with its sources.
type matter struct {
	whole   []gap.Episode
	sources map[string][]gap.Episode // by name
	now     int64
}

// since returns what went on since a time.
func (m *matters) since(from int64) (out matter, err error) {
	m.watch()
	now := m.judge.Now()
	down, err := m.links.Outages(time.Unix(0, from), now.Add(time.Second))
	if err != nil {
		return out, err
	}
	out = matter{sources: map[string][]gap.Episode{}, now: now.UnixNano()}
	for _, o := range down {
		name, ok := strings.CutPrefix(o.Link, "source ")
		if !ok {
			continue
		}
		e := gap.Episode{
			From: o.Began.UnixNano(), To: out.now, Cause: gap.SourceDown, Detail: strings.TrimSuffix(name+": "+o.Reason, ": "),
		}
		if !o.Ended.IsZero() {
			e.To = o.Ended.UnixNano()
		}
		out.sources[name] = append(out.sources[name], e)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	out.whole = append(slices.Clone(m.off), m.past...)
	for _, e := range []gap.Episode{m.doubt, m.unwritten} {
		if e.Cause != "" {
			out.whole = append(out.whole, e)
		}
	}
	return out, nil
}

// explain says what most likely made a gap of a series.
func (m *matters) explain(s engine.Series, from, to int64, of matter) gap.Episode {
	all := slices.Clone(of.whole)
	if source, place := m.from(s.Path); source != "" {
		all = append(all, of.sources[source]...)
		m.mu.Lock()
		absent := m.absent
		m.mu.Unlock()
		if absent != nil {
			all = append(all, absent(source, place, from, to)...)
		}
	}
	if s.Ended != 0 {
		all = append(all, gap.Episode{From: s.Ended, To: to, Cause: gap.DeviceOff})
	}
	m.mu.Lock()
	if e, ok := m.rejected[s.Path]; ok { // a rejected reading speaks as long as any
		all = append(all, gap.Episode{
			From: e.From - int64(s.FreshFor), To: e.To + 2*int64(s.FreshFor), Cause: e.Cause, Detail: e.Detail,
		})
	}
	m.mu.Unlock()
	return gap.Explain(from, to, all)
}

// explainSilence says what most likely makes a gap that goes on: what is the matter now, and not what was.
func (m *matters) explainSilence(s engine.Series, of matter) gap.Episode {
	recent := max(s.LastTime+int64(s.FreshFor), m.started, of.now-2*int64(s.FreshFor))
	return m.explain(s, recent, max(of.now, recent+1), of)
}
