package outbox

import (
	"encoding/json"
	"maps"
)

// recordCursors are how far an uplink has come with kinds of records that number their changes, such
// as notes. Nothing has to be marked of these: what has a higher number waits.
type recordCursors struct {
	acked  map[string]uint64 // by kind
	flight map[string]uint64 // taken, and neither acknowledged nor put back
}

func parseCursors(text string) (c recordCursors, err error) {
	c = recordCursors{acked: map[string]uint64{}, flight: map[string]uint64{}}
	if text != "" {
		err = json.Unmarshal([]byte(text), &c.acked)
	}
	return c, err
}

// arrived takes what was in flight as acknowledged, and returns how the file says it.
func (c *recordCursors) arrived() string {
	maps.Copy(c.acked, c.flight)
	clear(c.flight)
	return c.text()
}

func (c *recordCursors) text() string {
	if len(c.acked) == 0 {
		return ""
	}
	text, _ := json.Marshal(c.acked) // numbers can always be written
	return string(text)
}

func (c *recordCursors) putBack() { clear(c.flight) }

func (c *recordCursors) waiting(newest map[string]uint64) (count int) {
	for kind, last := range newest {
		count += int(max(last, c.acked[kind]) - c.acked[kind])
	}
	return count
}

// changes returns the last change of each kind of records.
func (a *Outboxes) changes() map[string]uint64 {
	out := map[string]uint64{}
	for kind, last := range a.newest {
		if change, err := last(); err == nil { // else whoever reads the records for sending says so
			out[kind] = change
		}
	}
	return out
}

// SentTo returns the last change of a kind of records that is acknowledged or in flight.
func (o *Outbox) SentTo(kind string) uint64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	return max(o.records.acked[kind], o.records.flight[kind])
}

// TakeRecords marks the records of a kind as in flight, up to a change.
func (o *Outbox) TakeRecords(kind string, change uint64) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.records.flight[kind] = change
}

// Wake makes all uplinks look whether there is something to send.
func (a *Outboxes) Wake() {
	for _, o := range a.all() {
		o.wakeUp()
	}
}
