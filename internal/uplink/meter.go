package uplink

import (
	"context"
	"encoding/json"
	"net"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"nexocumula/internal/config"
)

// Meter counts the bytes of an uplink, sent and received, with all headers, and keeps them within its limits.
type Meter struct {
	limits config.Limits
	now    func() time.Time // by the clocks of the service's zone
	by     *rate.Limiter    // nil: any rate

	mu   sync.Mutex
	used Used
}

// Used is how much of a link was used.
type Used struct {
	Day     string `json:"day"`   // 2026-03-01
	Today   uint64 `json:"today"` // bytes
	Month   string `json:"month"` // 2026-03
	InMonth uint64 `json:"in_month"`
}

const burst = 4 << 10 // bytes that may go at once

// newMeter goes on with what was used, as Text said it.
func newMeter(limits config.Limits, before []byte, now func() time.Time) (*Meter, error) {
	m := &Meter{limits: limits, now: now}
	if limits.Rate > 0 {
		m.by = rate.NewLimiter(rate.Limit(limits.Rate), burst)
	}
	if len(before) == 0 {
		return m, nil
	}
	return m, json.Unmarshal(before, &m.used)
}

// Used returns how much was used today and in this month.
func (m *Meter) Used() Used {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.turn()
	return m.used
}

// turn begins another day, or another month. mu is held.
func (m *Meter) turn() {
	now := m.now()
	if day := now.Format(time.DateOnly); m.used.Day != day {
		m.used.Day, m.used.Today = day, 0
	}
	if month := now.Format("2006-01"); m.used.Month != month {
		m.used.Month, m.used.InMonth = month, 0
	}
}

func (m *Meter) add(n int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.turn()
	m.used.Today += uint64(n)
	m.used.InMonth += uint64(n)
}

// Left returns how many bytes may still go today; ok is false where there is no limit.
func (m *Meter) Left() (bytes uint64, ok bool) {
	used := m.Used()
	for _, one := range []struct{ limit, used uint64 }{{m.limits.PerDay, used.Today}, {m.limits.PerMonth, used.InMonth}} {
		if one.limit == 0 {
			continue
		}
		if left := one.limit - min(one.limit, one.used); !ok || left < bytes {
			bytes, ok = left, true
		}
	}
	return bytes, ok
}

// Text returns what newMeter goes on with.
func (m *Meter) Text() []byte {
	text, _ := json.Marshal(m.Used()) // texts and numbers can always be written
	return text
}

// Conn counts what crosses a connection, and slows it down to the rate.
func (m *Meter) Conn(c net.Conn) net.Conn { return &metered{c, m} }

type metered struct {
	net.Conn
	meter *Meter
}

func (c *metered) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.meter.add(n)
	if c.meter.by != nil {
		for left := n; left > 0; left -= burst {
			_ = c.meter.by.WaitN(context.Background(), min(left, burst)) // only slower: a deadline is the connection's matter
		}
	}
	return n, err
}

func (c *metered) Write(p []byte) (n int, err error) {
	for n < len(p) {
		piece := p[n:min(n+burst, len(p))]
		if c.meter.by != nil {
			_ = c.meter.by.WaitN(context.Background(), len(piece))
		}
		sent, err := c.Conn.Write(piece)
		c.meter.add(sent)
		if n += sent; err != nil {
			return n, err
		}
	}
	return n, nil
}
