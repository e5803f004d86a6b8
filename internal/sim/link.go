package sim

import (
	"fmt"
	"io"
	"net"
	"sync"
)

// Link is a stretch of network that can be cut: it passes TCP connections on to a
// target, and while it is cut drops those there are and refuses new ones.
type Link struct {
	Address string // host:port to connect to
	target  string
	listen  net.Listener

	mu   sync.Mutex
	cut  bool
	open map[net.Conn]struct{}
	done sync.WaitGroup
}

// StartLink listens on a free loopback port and passes on to target, host:port.
func StartLink(target string) (*Link, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("simulated link: %w", err)
	}
	link := &Link{Address: l.Addr().String(), target: target, listen: l, open: map[net.Conn]struct{}{}}
	link.done.Add(1)
	go link.accept()
	return link, nil
}

// Cut cuts the link or mends it.
func (l *Link) Cut(cut bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cut = cut
	if cut {
		for c := range l.open {
			c.Close()
		}
	}
}

// IsCut reports whether the link is cut.
func (l *Link) IsCut() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cut
}

// Close takes the link away.
func (l *Link) Close() {
	l.listen.Close()
	l.Cut(true)
	l.done.Wait()
}

func (l *Link) accept() {
	defer l.done.Done()
	for {
		from, err := l.listen.Accept()
		if err != nil {
			return
		}
		if !l.keep(from) {
			from.Close()
			continue
		}
		l.done.Add(1)
		go l.pass(from)
	}
}

// keep notes an open connection, unless the link is cut.
func (l *Link) keep(c net.Conn) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cut {
		return false
	}
	l.open[c] = struct{}{}
	return true
}

func (l *Link) drop(c net.Conn) {
	l.mu.Lock()
	delete(l.open, c)
	l.mu.Unlock()
	c.Close()
}

func (l *Link) pass(from net.Conn) {
	defer l.done.Done()
	defer l.drop(from)
	to, err := net.Dial("tcp", l.target)
	if err != nil {
		return
	}
	defer l.drop(to)
	if !l.keep(to) {
		return
	}
	back := make(chan struct{})
	go func() {
		defer close(back)
		_, _ = io.Copy(from, to) // an end that closes is how every connection ends
		from.Close()
	}()
	_, _ = io.Copy(to, from)
	to.Close()
	<-back
}
