package pipeline

import (
	"runtime"
	"sync"
	"time"
)

// inbox holds deliveries until the committing goroutine takes them. It wakes that only for
// the first and when it is full, not for each: at a thousand messages a second, waking up
// would cost more than all the rest.
type inbox struct {
	wake chan struct{} // room for one
	room chan struct{} // as many as there may be in it

	mu     sync.Mutex
	all    []*Delivery
	closed bool // nothing more goes in
}

const mostInInbox = 8192 // more make their senders wait

func newInbox() inbox {
	return inbox{wake: make(chan struct{}, 1), room: make(chan struct{}, mostInInbox)}
}

// put is false once the pipeline stops: after that nobody would look. It waits for room.
func (b *inbox) put(d *Delivery, now func() time.Time, stopped <-chan struct{}) bool {
	select {
	case b.room <- struct{}{}:
	case <-stopped:
		return false
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		return false
	}
	d.came = now()
	b.all = append(b.all, d)
	if n := len(b.all); n == 1 || n%fullCommit == 0 {
		select {
		case b.wake <- struct{}{}:
		default:
		}
	}
	return true
}

// settle lets the first of a heap be followed by the others: a device that reports all
// its values at once does so within microseconds, less than a timer can tell apart.
func (b *inbox) settle() {
	for before, n := 0, b.waiting(); n > before && n < fullCommit; before, n = n, b.waiting() {
		for range 20 {
			runtime.Gosched()
		}
	}
}

// take gives what there is to each.
func (b *inbox) take(each func(*Delivery)) {
	b.mu.Lock()
	all := b.all
	b.all = make([]*Delivery, 0, min(len(all), 256))
	b.mu.Unlock()
	for _, d := range all {
		<-b.room
		each(d)
	}
}

func (b *inbox) waiting() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.all)
}

// close takes nothing more in.
func (b *inbox) close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.closed = true
}
