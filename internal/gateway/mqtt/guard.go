package mqtt

import (
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// guard keeps connections from costing more than they should: there is a limit to their
// number, a deadline until a connection has said who it is, and one for every write, so
// that a device that never reads is given up.
type guard struct {
	net.Listener
	most   int
	refuse func(remote, why string) // told of those that were turned away

	mu   sync.Mutex
	open map[*guarded]struct{}
}

const (
	introduceWithin = 10 * time.Second
	writeWithin     = 20 * time.Second
)

func (g *guard) Accept() (net.Conn, error) {
	for {
		c, err := g.Listener.Accept()
		if err != nil {
			return nil, err
		}
		kept := &guarded{Conn: c, guard: g}
		if !g.take(kept) {
			g.refuse(c.RemoteAddr().String(), fmt.Sprintf("%d devices are connected, as many as max_clients allows", g.most))
			c.Close()
			continue
		}
		if err := kept.Conn.SetReadDeadline(time.Now().Add(introduceWithin)); err != nil {
			kept.Close()
			continue
		}
		return kept, nil
	}
}

func (g *guard) take(c *guarded) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.open) >= g.most {
		return false
	}
	if g.open == nil {
		g.open = map[*guarded]struct{}{}
	}
	g.open[c] = struct{}{}
	return true
}

// shut takes no more connections in, and closes those that have not said who they are.
func (g *guard) shut() {
	_ = g.Listener.Close() // who listens on is told so by Accept
	for _, c := range g.all() {
		if !c.begun.Load() || !c.introduced.Load() {
			c.Close()
		}
	}
}

// part closes all connections there are.
func (g *guard) part() {
	for _, c := range g.all() {
		c.Close()
	}
}

func (g *guard) all() (out []*guarded) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for c := range g.open {
		out = append(out, c)
	}
	return out
}

// guarded is one connection.
type guarded struct {
	net.Conn
	guard      *guard
	begun      atomic.Bool // the library reads
	introduced atomic.Bool
}

func (c *guarded) Read(data []byte) (int, error) {
	c.begun.Store(true)
	return c.Conn.Read(data)
}

// introduce ends the deadline for saying who it is.
func (c *guarded) introduce() { c.introduced.Store(true) }

// SetDeadline is what the library sets for the keep alive; until a connection has said
// who it is, ours counts.
func (c *guarded) SetDeadline(t time.Time) error {
	if !c.introduced.Load() {
		return nil
	}
	return c.Conn.SetReadDeadline(t)
}

func (c *guarded) Write(data []byte) (int, error) {
	if err := c.Conn.SetWriteDeadline(time.Now().Add(writeWithin)); err != nil {
		return 0, err
	}
	return c.Conn.Write(data)
}

func (c *guarded) Close() error {
	c.guard.mu.Lock()
	delete(c.guard.open, c)
	c.guard.mu.Unlock()
	return c.Conn.Close()
}
