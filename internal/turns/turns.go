// Package turns lets queries compute in turns, so that one that takes long does not hold up those that take
// short.
package turns

import (
	"context"
	"math/bits"
	"slices"
	"sync"
	"time"
)

// Slice is how long a query computes before others may go on.
const Slice = 2 * time.Millisecond

// longEvery is how often one of the queries goes on that have had a slice already, the one that waits
// longest: else those that are short could keep one that is long from ever ending.
const longEvery = 4

// Queue bounds how many queries compute at a time. Of those that wait, the one goes on that has had least;
// of several, the one whose caller's turn is longest ago. What they have had counts by doublings, so that
// queries that are about as long take turns.
type Queue struct {
	mu      sync.Mutex
	free    int
	spare   int    // processors for what is done beside a query
	joined  uint64 // how many joined
	passed  uint64 // how often a place was passed on
	waiting []*Turn
	served  map[string]uint64 // of each caller, how much had been passed on when it last had a turn
}

// New makes a queue for so many queries at a time, that lets so much be done beside them.
func New(places, spare int) *Queue {
	return &Queue{free: places, spare: spare, served: map[string]uint64{}}
}

// Beside runs a short piece of a query on another processor, as long as nobody waits for a turn. It reports false,
// and runs nothing, where none is free.
func (q *Queue) Beside(do func()) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.spare == 0 || len(q.waiting) > 0 {
		return false
	}
	q.spare--
	go func() {
		defer func() {
			q.mu.Lock()
			q.spare++
			q.mu.Unlock()
		}()
		do()
	}()
	return true
}

// Turn is a query's place in the queue. One goroutine uses it.
type Turn struct {
	queue *Queue
	who   string
	had   time.Duration // that it computed, until since
	since time.Time
	order uint64 // among those that wait
	ready chan struct{}
	held  bool
}

// Outcome is the result of waiting for a turn.
type Outcome int

// What can come of it.
const (
	Entered Outcome = iota
	TooLate         // the others took too long
	TooMany         // of this caller wait already
)

// Enter waits for a turn of a caller, of whom so many may wait. Leave it.
func (q *Queue) Enter(ctx context.Context, who string, most int) (*Turn, Outcome) {
	t := &Turn{queue: q, who: who}
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.free > 0 {
		q.free--
		q.grant(t)
		return t, Entered
	}
	waiting := 0
	for _, other := range q.waiting {
		if other.who == who {
			waiting++
		}
	}
	if waiting >= most {
		return nil, TooMany
	}
	q.join(t)
	if !q.await(ctx, t) {
		return nil, TooLate
	}
	return t, Entered
}

// Pause lets others go on, when the turn has lasted long enough and any wait. It returns an error when ctx
// ends; the turn is over then.
func (t *Turn) Pause(ctx context.Context) error {
	if t.held && time.Since(t.since) < Slice {
		return ctx.Err()
	}
	return t.again(ctx, true)
}

// Without runs something that needs no processor, such as a write that waits for its reader, while others
// compute.
func (t *Turn) Without(do func()) {
	t.Leave()
	do()
	_ = t.again(context.Background(), false) // it ends: whoever computes pauses
}

// Leave ends the turn.
func (t *Turn) Leave() {
	q := t.queue
	q.mu.Lock()
	defer q.mu.Unlock()
	if t.held {
		t.stop()
		q.free++
		q.pass()
	}
}

// again joins the queue. One that has the turn keeps it when nobody else is before it.
func (t *Turn) again(ctx context.Context, has bool) error {
	q := t.queue
	q.mu.Lock()
	defer q.mu.Unlock()
	if has && !t.held { // it was lost with ctx
		return context.Cause(ctx)
	}
	if t.held {
		t.stop()
		q.free++
	}
	q.join(t)
	q.pass()
	if !q.await(ctx, t) {
		return context.Cause(ctx)
	}
	return ctx.Err()
}

// stop counts what the turn has had. The queue's lock is held.
func (t *Turn) stop() {
	t.had += time.Since(t.since)
	t.held = false
}

func (q *Queue) join(t *Turn) {
	q.joined++
	t.order, t.ready = q.joined, make(chan struct{})
	q.waiting = append(q.waiting, t)
}

// await waits until a turn is given, or ctx ends. The lock is held before and after.
func (q *Queue) await(ctx context.Context, t *Turn) bool {
	if t.held {
		return true
	}
	q.mu.Unlock()
	select {
	case <-t.ready:
	case <-ctx.Done():
	}
	q.mu.Lock()
	if i := slices.Index(q.waiting, t); i >= 0 {
		q.waiting = slices.Delete(q.waiting, i, i+1)
	}
	return t.held
}

// pass gives the free places to those who are next.
func (q *Queue) pass() {
	for q.free > 0 && len(q.waiting) > 0 {
		next := q.next()
		t := q.waiting[next]
		q.waiting = slices.Delete(q.waiting, next, next+1)
		q.free--
		q.grant(t)
		close(t.ready)
	}
}

func (q *Queue) grant(t *Turn) {
	const mostCallers = 1000 // that are remembered
	if len(q.served) >= mostCallers {
		clear(q.served)
	}
	q.served[t.who] = q.passed
	t.held, t.since = true, time.Now()
}

// next returns which of those that wait is next.
func (q *Queue) next() (best int) {
	q.passed++
	long := q.passed%longEvery == 0
	for i, t := range q.waiting {
		if b := q.waiting[best]; i > 0 && q.before(t, b, long) {
			best = i
		}
	}
	return best
}

func (q *Queue) before(a, b *Turn, long bool) bool {
	if long && (a.had >= Slice || b.had >= Slice) {
		return b.had < Slice || a.had >= Slice && a.order < b.order
	}
	if x, y := bits.Len64(uint64(a.had/Slice)), bits.Len64(uint64(b.had/Slice)); x != y {
		return x < y
	}
	if x, y := q.served[a.who], q.served[b.who]; x != y {
		return x < y
	}
	return a.order < b.order
}
