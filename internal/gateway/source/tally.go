package source

import (
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
}

// counter is a Tally that many goroutines write.
type counter struct {
	mu    sync.Mutex
	tally Tally
}

func (c *counter) Tally() Tally {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.tally
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

func (c *counter) failed(text string) {
	c.change(func(t *Tally) {
		t.Errors++
		t.LastError = text
	})
}

func (c *counter) up(up bool) { c.change(func(t *Tally) { t.Up = up }) }
