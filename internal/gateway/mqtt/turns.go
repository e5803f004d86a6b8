package mqtt

import (
	"net"
	"sync"
	"time"
)

// turns hands out turns for checking passwords: one at a time, as each takes memory and a while, and a flood
// of them must leave the other processors alone. Those who are likelier to be let in go first, the
// queue is bounded, and nobody waits for long.
type turns struct {
	mu       sync.Mutex
	busy     bool
	waiting  [ranks][]chan struct{}
	failures map[string]*failures // by address
	closed   chan struct{}
}

// rank says how likely somebody is to be let in.
type rank int

const (
	wasHere rank = iota // the account was let in from this address before
	known               // there is such an account
	unknown             // there is none, or the address failed often
	ranks
)

const (
	mostWaiting  = 64              // of a rank
	waitsFor     = 8 * time.Second // for a turn
	failsWithin  = time.Minute
	mostFailures = 10 // of an address within that time; what comes then has the last rank
	mostFailing  = 10_000
)

type failures struct {
	count int
	until time.Time
}

func newTurns() *turns { return &turns{failures: map[string]*failures{}, closed: make(chan struct{})} }

// take waits for a turn; false when there is none to be had. A turn that was taken is given back.
func (t *turns) take(r rank) bool {
	t.mu.Lock()
	if !t.busy {
		t.busy = true
		t.mu.Unlock()
		return true
	}
	if len(t.waiting[r]) >= mostWaiting {
		t.mu.Unlock()
		return false
	}
	mine := make(chan struct{})
	t.waiting[r] = append(t.waiting[r], mine)
	t.mu.Unlock()
	patience := time.NewTimer(waitsFor)
	defer patience.Stop()
	select {
	case <-mine:
		return true
	case <-patience.C:
	case <-t.closed:
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	for i, one := range t.waiting[r] {
		if one == mine {
			t.waiting[r] = append(t.waiting[r][:i], t.waiting[r][i+1:]...)
			return false
		}
	}
	return true // it came in the same moment
}

func (t *turns) give() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for r := range t.waiting {
		if len(t.waiting[r]) > 0 {
			close(t.waiting[r][0])
			t.waiting[r] = t.waiting[r][1:]
			return
		}
	}
	t.busy = false
}

// close ends all waiting.
func (t *turns) close() { close(t.closed) }

// failed notes that somebody at an address was turned away.
func (t *turns) failed(address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := time.Now()
	f := t.failures[address]
	if f == nil || now.After(f.until) {
		if len(t.failures) >= mostFailing {
			for other, old := range t.failures {
				if now.After(old.until) || len(t.failures) >= mostFailing {
					delete(t.failures, other)
				}
			}
		}
		f = &failures{}
		t.failures[address] = f
	}
	f.count, f.until = f.count+1, now.Add(failsWithin)
}

// often reports whether an address failed often lately.
func (t *turns) often(address string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	f := t.failures[address]
	return f != nil && f.count >= mostFailures && time.Now().Before(f.until)
}

// hostOf returns an address without its port.
func hostOf(remote string) string {
	if host, _, err := net.SplitHostPort(remote); err == nil {
		return host
	}
	return remote
}
