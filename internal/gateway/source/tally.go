package source

import (
	"slices"
	"sync"
	"time"
)

// Tally counts what a source has done since the start, for display.
type Tally struct {
	Name      string
	Form      string // the key of its part of the configuration
	Address   string
	Up        bool      // listening, connected, or answering
	Messages  uint64    // messages or polls that arrived
	Acked     uint64    // of those, on disk and acknowledged
	Readings  uint64    // readings they brought, rejects not counted
	Rejects   uint64    // refused when decoded; those refused by range are counted by the pipeline
	Ignored   uint64    // values left out: retained ones without a time of their own, and Sparkplug metrics that measure nothing
	Errors    uint64    // timeouts, exceptions, lost connections
	LastAt    time.Time // of the last message; zero when there was none
	Silent    time.Time // of a source that is sent messages: since when far fewer come than did; zero: they come
	LastError string
	Absent    []string // units behind it that do not answer, in words
	Faults    []Fault  // by place, those of the last hour, the newest last
	Line      *Line    // of a source that asks; nil for others
}

// Line describes the use of a line on which devices are polled.
type Line struct {
	Busy       float64       // share of the last minute in which it was asked or answered on, or waited for
	AnswerHalf time.Duration // half of the recent answers came within
	AnswerMost time.Duration // 99 of 100 came within
	Requests   uint64
	Timeouts   uint64
	Garbled    uint64            // answers with a wrong checksum, or that were none
	Exceptions map[string]uint64 // answers that were no, by the protocol's name for it
	Failures   []Failure         // what else than an answer came, by name
	Groups     []Group
	Learned    []string // what its devices refuse, in words
}

// Failure is something that goes wrong on a line.
type Failure struct {
	What   string
	Count  uint64
	LastAt time.Time
}

// Group says how well a schedule is kept.
type Group struct {
	Name    string
	Every   time.Duration // 0: on demand
	Late    time.Duration // 99 of 100 units were read this long after the point of the schedule, or earlier
	Skipped uint64        // points of the schedule at which a unit was not read, as it or others took too long
}

// Fault is a failure at one place of a source: a register, a device, a
// connection.
type Fault struct {
	Place  string
	Text   string // what was wrong when it last happened
	Count  uint64
	LastAt time.Time
}

const (
	mostFaults  = 50 // places remembered of a source
	faultsStand = time.Hour
)

// Counter is a Tally that many goroutines write.
type Counter struct {
	mu     sync.Mutex
	tally  Tally
	rhythm rhythm
}

// Tally returns the present counts.
func (c *Counter) Tally() Tally {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := c.tally
	if out.Line == nil && out.Up && c.rhythm.broken(time.Now()) {
		out.Silent = c.rhythm.last
	}
	out.Faults = slices.DeleteFunc(slices.Clone(out.Faults),
		func(f Fault) bool { return time.Since(f.LastAt) > faultsStand })
	return out
}

// Change changes it.
func (c *Counter) Change(f func(t *Tally)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.tally)
}

// Arrived counts a message and what it brought.
func (c *Counter) Arrived(readings, rejects int) {
	now := time.Now()
	c.Change(func(t *Tally) {
		c.rhythm.beat(now)
		t.Messages++
		t.Readings += uint64(readings)
		t.Rejects += uint64(rejects)
		t.LastAt = now
	})
}

// Ignored counts values that were left out as the configuration says.
func (c *Counter) Ignored(values int) {
	if values > 0 {
		c.Change(func(t *Tally) { t.Ignored += uint64(values) })
	}
}

// Acked counts a message that is on disk.
func (c *Counter) Acked() { c.Change(func(t *Tally) { t.Acked++ }) }

// Failed notes that something went wrong at a place.
func (c *Counter) Failed(place, text string) {
	c.Change(func(t *Tally) {
		t.Errors++
		t.LastError = place + ": " + text
		now := Fault{Place: place, Text: text, Count: 1, LastAt: time.Now()}
		if i := slices.IndexFunc(t.Faults, func(f Fault) bool { return f.Place == place }); i >= 0 {
			now.Count += t.Faults[i].Count
			t.Faults = slices.Delete(t.Faults, i, i+1)
		}
		t.Faults = append(t.Faults, now)
		t.Faults = t.Faults[max(0, len(t.Faults)-mostFaults):]
	})
}

// Up says whether the source is listening, connected, or answering.
func (c *Counter) Up(up bool) { c.Change(func(t *Tally) { t.Up = up }) }
