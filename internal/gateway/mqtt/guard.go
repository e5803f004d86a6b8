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
	most   int64
	open   atomic.Int64
	refuse func(remote, why string) // told of those that were turned away
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
		if g.open.Add(1) > g.most {
			g.open.Add(-1)
			g.refuse(c.RemoteAddr().String(), fmt.Sprintf("%d devices are connected, as many as max_clients allows", g.most))
			c.Close()
			continue
		}
		kept := &guarded{Conn: c, guard: g}
		if err := kept.Conn.SetReadDeadline(time.Now().Add(introduceWithin)); err != nil {
			kept.Close()
			continue
		}
		return kept, nil
	}
}

// guarded is one connection.
type guarded struct {
	net.Conn
	guard      *guard
	introduced atomic.Bool
	once       sync.Once
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
	c.once.Do(func() { c.guard.open.Add(-1) })
	return c.Conn.Close()
}
