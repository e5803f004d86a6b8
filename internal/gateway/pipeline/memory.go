package pipeline

import (
	"slices"
	"sync"
	"time"

	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

// memory is what the pipeline remembers of a series besides what it stores. It outlasts
// rules, which may be replaced while it runs.
type memory struct {
	mu     sync.Mutex
	screen screen.Memory
	known  bool // what the store knows is in it
	rhythm rhythm

	subject screen.Subject // that is looked at, with mu held
	message []screened     // that it came in

	held held
}

func (p *Pipeline) memoryOf(path series.Path) *memory {
	m, _ := p.memories.LoadOrStore(path, &memory{})
	return m.(*memory)
}

// recall puts in what the store knows of a series, once. What was measured by another
// calibration, or in another unit, is forgotten: new readings are not to be compared with it.
func (m *memory) recall(before store.Series, same bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	switch {
	case !same:
		m.screen = screen.Memory{}
	case !m.known && before.LastTime != 0:
		m.screen.Start(before.LastTime, before.LastValue)
	}
	m.known = true
}

// judge asks a series' screens about a reading of a delivery, and remembers it.
func (m *memory) judge(of *member, s screened, all []screened) screen.Verdict {
	m.mu.Lock()
	defer m.mu.Unlock()
	if of.rule.Every == 0 {
		m.rhythm.heard(s.time)
	}
	m.screen.Arrived(s.time, s.value)
	if m.message = all; m.subject.Beside == nil {
		m.subject.Beside = func(path series.Path) (float64, bool) { return beside(m.message, path, m.subject.Time) }
	}
	m.subject.Def, m.subject.Time, m.subject.Value, m.subject.Memory = &of.def, s.time, s.value, &m.screen
	verdict := screen.Judge(of.rule.Screens, &m.subject)
	m.message = nil
	if verdict.Rule == "" {
		m.screen.Good(s.time, s.value)
	}
	return verdict
}

// beside is the value of another series in a message, of a time.
func beside(message []screened, path series.Path, time int64) (float64, bool) {
	for _, other := range message {
		if other.series.def.Path == path && other.time == time {
			return other.value, true
		}
	}
	return 0, false
}

// rhythm learns how often a series is heard: the middle one of the last gaps.
type rhythm struct {
	last int64
	gaps [15]int64
	seen int
}

func (r *rhythm) heard(t int64) {
	if r.last != 0 && t > r.last {
		r.gaps[r.seen%len(r.gaps)] = t - r.last
		r.seen++
	}
	r.last = max(r.last, t)
}

// leastSeen is how many gaps there must be before anything is said of them.
const leastSeen = 5

func (r *rhythm) every() time.Duration {
	if r.seen < leastSeen {
		return 0
	}
	sorted := slices.Sorted(slices.Values(r.gaps[:min(r.seen, len(r.gaps))]))
	every := time.Duration(sorted[len(sorted)/2])
	for _, digit := range []time.Duration{time.Minute, time.Second, 100 * time.Millisecond, 10 * time.Millisecond} {
		if every > 20*digit { // no more digits than it keeps
			return every.Round(digit)
		}
	}
	return every
}

func (m *memory) heard(t int64) {
	m.mu.Lock()
	m.rhythm.heard(t)
	m.mu.Unlock()
}

// Every is how often a series was heard lately; 0 while that is not known.
func (p *Pipeline) Every(path series.Path) time.Duration {
	found, ok := p.memories.Load(path)
	if !ok {
		return 0
	}
	m := found.(*memory)
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.rhythm.every()
}
