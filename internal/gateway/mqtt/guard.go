package mqtt

import (
	"fmt"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// guard keeps connections from costing more than they should: there is a limit to the number of devices,
// another to that of connections which have not said yet who they are, a deadline for these, and one for
// every write, so that a device that never reads is given up.
type guard struct {
	net.Listener
	most   int
	plain  bool                     // without TLS
	refuse func(remote, why string) // told of those that were turned away

	mu     sync.Mutex
	ended  bool
	open   map[*guarded]struct{} // devices
	silent []*guarded            // that have not said who they are, the oldest first

	// starting counts accepted connections that the library has not read from yet. The library counts a
	// connection in the goroutine that serves it, just before its first read; a server that was closed
	// in between would not wait for that goroutine.
	starting sync.WaitGroup
}

// mostSilent returns how many connections may be silent at a time, and how many of one address.
func (g *guard) mostSilent() (all, ofOne int) { return max(16, g.most/4), max(16, g.most/8) }

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
		old, ok := g.wait(kept)
		if !ok {
			c.Close()
			return nil, net.ErrClosed
		}
		if old != nil {
			g.refuse(old.RemoteAddr().String(), "it had not said who it is, and too many connections do not")
			old.Close()
		}
		if err := kept.Conn.SetReadDeadline(time.Now().Add(introduceWithin)); err != nil {
			kept.Close()
			kept.begun.Do(g.starting.Done)
			continue
		}
		return kept, nil
	}
}

// wait takes a connection in that is still silent, and returns the one that has to go for it, if any: the oldest
// of its address, or of all. It is not ok after shut.
func (g *guard) wait(c *guarded) (goes *guarded, ok bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.ended {
		return nil, false
	}
	all, ofOne := g.mostSilent()
	address := hostOf(c.RemoteAddr().String())
	same := 0
	var oldest *guarded
	for _, one := range g.silent {
		if hostOf(one.RemoteAddr().String()) == address {
			if same++; oldest == nil {
				oldest = one
			}
		}
	}
	switch {
	case same >= ofOne:
		goes = oldest
	case len(g.silent) >= all:
		goes = g.silent[0]
	}
	g.silent = append(g.silent, c)
	g.starting.Add(1)
	return goes, true
}

// admit makes a connection that said who it is a device; false when there are too many.
func (g *guard) admit(c *guarded) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.silent = slices.DeleteFunc(g.silent, func(one *guarded) bool { return one == c })
	if len(g.open) >= g.most {
		return false
	}
	if g.open == nil {
		g.open = map[*guarded]struct{}{}
	}
	g.open[c] = struct{}{}
	return true
}

// shut accepts no more connections, closes those that have not said who they are, and returns when the
// library has begun to serve every accepted one.
func (g *guard) shut() {
	g.mu.Lock()
	g.ended = true
	g.mu.Unlock()
	_ = g.Listener.Close() // who listens on is told so by Accept
	for _, c := range g.all() {
		if !c.introduced.Load() {
			c.Close()
		}
	}
	g.starting.Wait()
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
	return append(out, g.silent...)
}

// guarded is one connection.
type guarded struct {
	net.Conn
	guard      *guard
	begun      sync.Once // ends starting
	introduced atomic.Bool
	heard      bool // something came; only its reader looks at it
}

func (c *guarded) Read(data []byte) (int, error) {
	c.begun.Do(c.guard.starting.Done)
	n, err := c.Conn.Read(data)
	if n > 0 && !c.heard {
		c.heard = true
		c.hears(data[0])
	}
	return n, err
}

// introduce ends the deadline for saying who it is. It reports whether there is room for another device.
func (c *guarded) introduce() bool {
	c.introduced.Store(true)
	if c.guard.admit(c) {
		return true
	}
	c.guard.refuse(c.RemoteAddr().String(),
		fmt.Sprintf("%d devices are connected, as many as max_clients allows", c.guard.most))
	return false
}

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
	c.guard.silent = slices.DeleteFunc(c.guard.silent, func(one *guarded) bool { return one == c })
	c.guard.mu.Unlock()
	return c.Conn.Close()
}
