package pipeline

import (
	"context"
	"math"
	"slices"
	"sync"
	"time"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// memory is the pipeline's memory of a series besides its stored rows. There are as many
// as series, so it is small where nothing is screened.
type memory struct {
	mu     sync.Mutex
	rhythm rhythm
	live   uint8  // readings in a row that came about when they were made, up to enoughLive
	held   held   // where others are made of it
	source string // where its last reading came from
	place  string // and from which topic or register
	// foreign says that what the store has was measured in another unit, or by another calibration.
	foreign bool
	screen  *screening // nil until the series is screened
}

// screening is the screens' memory of a series.
type screening struct {
	screen.Memory
	subject screen.Subject // that is looked at
	message []screened     // that it came in
}

// held is the newest reading of a series, which holds until the next, for as long as it speaks.
type held struct {
	time  int64
	value float64
}

// memoryOf returns the memory of a series. Where something depends on it, it outlasts rules, which
// may be replaced while the pipeline runs.
func (in *intake) memoryOf(r *rules, m *member) *memory {
	if len(m.rule.Screens) == 0 && len(r.derivers) == 0 {
		return &memory{}
	}
	found, _ := in.memories.LoadOrStore(m.def.Path, &memory{})
	return found.(*memory)
}

// recall puts in what the store knows of a series that is screened, once. What was measured by
// another calibration, or in another unit, is forgotten: new readings are not to be compared
// with it.
func (m *memory) recall(before engine.Series, since int64, same bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	switch {
	case m.screen == nil:
		m.screen = &screening{}
		if same && before.LastTime != 0 {
			m.screen.Start(before.LastTime, before.LastValue, since)
		}
	case !same:
		m.screen.Memory = screen.Memory{}
	}
}

// forget drops what was measured in another unit, or by another calibration.
func (m *memory) forget() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.screen, m.held, m.foreign = &screening{}, held{}, true
}

// sameSince is from when on a series had its latest value, looking back as long as it may stay the same.
func (in *intake) sameSince(ctx context.Context, of engine.Series, longest time.Duration) (int64, error) {
	since := of.LastTime
	if longest == 0 || since == 0 {
		return since, nil
	}
	rows, err := in.store.Read(ctx, of.ID, series.Readings, of.LastTime-int64(longest), of.LastTime+1)
	if err != nil {
		return 0, err
	}
	for i := rows.Len() - 1; i >= 0 && rows.Cols[0][i] == of.LastValue; i-- {
		since = rows.Times[i]
	}
	return since, nil
}

// judge asks a series' screens about a reading of a delivery, and remembers it.
func (m *memory) judge(of *member, s screened, all []screened) screen.Verdict {
	m.mu.Lock()
	defer m.mu.Unlock()
	if of.rule.Every == 0 {
		m.rhythm.heard(s.time)
	}
	k := m.screen
	k.Arrived(s.time, s.value)
	if k.message = all; k.subject.Beside == nil {
		k.subject.Beside = func(path series.Path) (float64, bool) { return beside(k.message, path, k.subject.Time) }
	}
	k.subject.Def, k.subject.Time, k.subject.Value, k.subject.Memory = &of.def, s.time, s.value, &k.Memory
	verdict := screen.Judge(of.rule.Screens, &k.subject)
	k.message = nil
	if verdict.Rule == "" {
		k.Good(s.time, s.value)
	}
	return verdict
}

// beside returns the value of another series in a message, of a time.
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
	gaps [7]uint32 // in units of gapUnit; what is longer than fits stands for that
	seen uint8     // gaps, up to as many as fit
	next uint8
}

const gapUnit = int64(time.Millisecond)

func (r *rhythm) heard(t int64) {
	if r.last != 0 && t > r.last {
		r.gaps[r.next] = uint32(min((t-r.last+gapUnit/2)/gapUnit, math.MaxUint32))
		r.next = (r.next + 1) % uint8(len(r.gaps))
		r.seen = min(r.seen+1, uint8(len(r.gaps)))
	}
	r.last = max(r.last, t)
}

// leastSeen is how many gaps there must be before anything is said of them.
const leastSeen = 5

func (r *rhythm) every() time.Duration {
	if r.seen < leastSeen {
		return 0
	}
	sorted := slices.Sorted(slices.Values(r.gaps[:r.seen]))
	every := time.Duration(int64(sorted[len(sorted)/2]) * gapUnit)
	for _, digit := range []time.Duration{time.Minute, time.Second, 100 * time.Millisecond, 10 * time.Millisecond} {
		if every > 20*digit { // no more digits than it keeps
			return every.Round(digit)
		}
	}
	return every
}

// regular returns every when all of the gaps are about as long; 0 when they are not, or few.
func (r *rhythm) regular() time.Duration {
	every := r.every()
	for _, g := range r.gaps[:r.seen] {
		if length := time.Duration(int64(g) * gapUnit); length < every/2 || length > every+every/2 {
			return 0
		}
	}
	return every
}

const (
	enoughLive = 8 // readings, as many as the rhythm remembers
	liveWithin = int64(5 * time.Minute)
)

func (m *memory) heard(t, now int64, from *reading.Origin, learns bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.live = min(m.live+1, enoughLive); now-t > liveWithin {
		m.live = 0 // history comes in any order, and says nothing of what is to be expected
	}
	if from != nil {
		m.source, m.place = from.Source, from.Place
	}
	if learns {
		m.rhythm.heard(t)
	}
}

// From returns the source that the last reading of a series came from since the start, and its topic
// or register; empty when there was none.
func (in *intake) From(path series.Path) (source, place string) {
	found, ok := in.rules.Load().members.Load(path)
	if !ok || found.(*member).memory == nil {
		return "", ""
	}
	m := found.(*member).memory
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.source, m.place
}

// Every returns how often a series was heard lately; 0 while that is not known.
func (in *intake) Every(path series.Path) time.Duration {
	return in.rhythmOf(path, func(m *memory) time.Duration { return m.rhythm.every() })
}

// Regularly returns how often a series was heard lately; 0 when that was not regular, or is not known.
func (in *intake) Regularly(path series.Path) time.Duration {
	return in.rhythmOf(path, func(m *memory) time.Duration {
		if m.live < enoughLive {
			return 0
		}
		return m.rhythm.regular()
	})
}

func (in *intake) rhythmOf(path series.Path, of func(*memory) time.Duration) time.Duration {
	found, ok := in.rules.Load().members.Load(path)
	if !ok || found.(*member).memory == nil {
		return 0
	}
	m := found.(*member).memory
	m.mu.Lock()
	defer m.mu.Unlock()
	return of(m)
}
