package modbus

import (
	"slices"
	"sync"
	"time"

	"nexocumula/internal/gateway/source"
)

// figures measure a line.
type figures struct {
	mu         sync.Mutex
	requests   uint64
	timeouts   uint64
	garbled    uint64
	exceptions map[string]uint64
	failures   failures
	answers    recent
	busy       busy
	groups     map[string]*groupFigures
}

type groupFigures struct {
	group   *group
	late    recent
	skipped uint64
}

// recent are the last measured times.
type recent struct {
	times []time.Duration
	next  int
}

const mostRecent = 512

func (r *recent) add(d time.Duration) {
	if len(r.times) < mostRecent {
		r.times = append(r.times, d)
		return
	}
	r.times[r.next] = d
	r.next = (r.next + 1) % mostRecent
}

// at returns the time that a share of all does not exceed.
func (r *recent) at(share float64) time.Duration {
	if len(r.times) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(r.times))
	return sorted[min(int(share*float64(len(sorted))), len(sorted)-1)]
}

// busy is how much of the last minute the line was used, in seconds of it.
type busy struct {
	used  [60]time.Duration
	at    [60]int64 // second each slot is of
	since time.Time
}

func (b *busy) add(now time.Time, took time.Duration) {
	second := now.Unix()
	if i := second % 60; b.at[i] == second {
		b.used[i] += took
	} else {
		b.at[i], b.used[i] = second, took
	}
}

func (b *busy) share(now time.Time) float64 {
	total := time.Duration(0)
	for i, second := range b.at {
		if age := now.Unix() - second; age >= 0 && age < 60 {
			total += b.used[i]
		}
	}
	return min(1, float64(total)/float64(max(min(now.Sub(b.since), time.Minute), time.Second)))
}

func newFigures(groups []group) *figures {
	f := &figures{exceptions: map[string]uint64{}, failures: failures{}, groups: map[string]*groupFigures{}}
	f.busy.since = time.Now()
	for i := range groups {
		f.groups[groups[i].name] = &groupFigures{group: &groups[i]}
	}
	return f
}

// asked notes a request and what came of it.
func (f *figures) asked(begun, now time.Time, err error) {
	took := now.Sub(begun)
	f.mu.Lock()
	defer f.mu.Unlock()
	f.requests++
	f.busy.add(now, took)
	f.failures.add(failureOf(err), now)
	switch {
	case err == nil:
		f.answers.add(took)
	case isException(err):
		f.answers.add(took)
		f.exceptions[exceptionName(err)]++
	case isTimeout(err):
		f.timeouts++
	case isGarbled(err):
		f.garbled++
	}
}

// foreign notes an answer to another request than the last.
func (f *figures) foreign() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.failures.add(otherAsked, time.Now())
}

// done notes that a group's registers of one unit were all read: how long after the point
// of its schedule, and how many points that made it miss.
func (f *figures) done(g *group, late time.Duration) {
	f.mu.Lock()
	defer f.mu.Unlock()
	own := f.groups[g.name]
	own.late.add(late)
	if g.every > 0 {
		own.skipped += uint64(late / g.every)
	}
}

// line returns the present figures of the line.
func (f *figures) line() *source.Line {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := &source.Line{
		Requests: f.requests, Timeouts: f.timeouts, Garbled: f.garbled, Exceptions: map[string]uint64{},
		Failures: f.failures.list(),
		Busy:     f.busy.share(time.Now()), AnswerHalf: f.answers.at(0.5), AnswerMost: f.answers.at(0.99),
	}
	for name, n := range f.exceptions {
		out.Exceptions[name] = n
	}
	for _, g := range f.groups {
		if len(g.late.times) == 0 {
			continue
		}
		out.Groups = append(out.Groups, source.Group{
			Name:    g.group.name,
			Every:   g.group.every,
			Late:    g.late.at(0.99),
			Skipped: g.skipped,
		})
	}
	slices.SortFunc(out.Groups, func(a, b source.Group) int { return int(a.Every - b.Every) })
	return out
}
