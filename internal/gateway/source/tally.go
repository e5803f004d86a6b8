package source

import (
	"slices"
	"sync"
	"time"
)

// Tally is what a source has done since the start, for people to look at.
type Tally struct {
	Name      string
	Form      string // mqtt_listener, mqtt_broker or modbus
	Address   string
	Up        bool      // listening, connected, or answering
	Messages  uint64    // messages or polls that arrived
	Acked     uint64    // of those, on disk and acknowledged
	Readings  uint64    // readings they brought, rejects not counted
	Rejects   uint64    // refused when decoded; those refused by range are counted by the pipeline
	Errors    uint64    // timeouts, exceptions, lost connections
	LastAt    time.Time // of the last message; zero when there was none
	LastError string
	Absent    []string // units behind it that do not answer, in words
	Faults    []Fault  // by place, those of the last hour, the newest last
}

// Fault is what goes wrong at one place of a source: a register, a device, a
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

// counter is a Tally that many goroutines write.
type counter struct {
	mu    sync.Mutex
	tally Tally
}

func (c *counter) Tally() Tally {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := c.tally
	out.Faults = slices.DeleteFunc(slices.Clone(out.Faults), func(f Fault) bool { return time.Since(f.LastAt) > faultsStand })
	return out
}

func (c *counter) change(f func(t *Tally)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.tally)
}

func (c *counter) arrived(readings, rejects int) {
	now := time.Now()
	c.change(func(t *Tally) {
		t.Messages++
		t.Readings += uint64(readings)
		t.Rejects += uint64(rejects)
		t.LastAt = now
	})
}

func (c *counter) acked() { c.change(func(t *Tally) { t.Acked++ }) }

// failed notes that something went wrong at a place.
func (c *counter) failed(place, text string) {
	c.change(func(t *Tally) {
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

func (c *counter) up(up bool) { c.change(func(t *Tally) { t.Up = up }) }
