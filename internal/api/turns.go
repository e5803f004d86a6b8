package api

import (
	"context"
	"io"
	"net/http"
	"runtime"
	"slices"
	"sync"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/core/span"
)

// turns bounds how many queries are computed at a time, so that one processor at least is
// left for what comes in. Callers take turns, however many queries one of them asks. A query that waits for
// its client to read gives its turn up.
type turns struct {
	mu      sync.Mutex
	free    int
	next    []string // callers that wait, the one whose turn is next first; each stands here once
	waiting map[string][]chan struct{}
}

// mostQueries is how many queries of one caller may wait.
const mostQueries = 100

func newTurns() *turns {
	return &turns{free: max(1, runtime.GOMAXPROCS(0)-1), waiting: map[string][]chan struct{}{}}
}

// entry is the result of waiting for a turn.
type entry int

const (
	entered entry = iota
	tooLate       // the others took too long
	tooMany       // of this caller wait already
)

func (t *turns) enter(ctx context.Context, who string, most int) entry {
	t.mu.Lock()
	if t.free > 0 {
		t.free--
		t.mu.Unlock()
		return entered
	}
	if len(t.waiting[who]) >= most {
		t.mu.Unlock()
		return tooMany
	}
	mine := make(chan struct{})
	if len(t.waiting[who]) == 0 {
		t.next = append(t.next, who)
	}
	t.waiting[who] = append(t.waiting[who], mine)
	t.mu.Unlock()
	select {
	case <-mine:
		return entered
	case <-ctx.Done():
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	i := slices.Index(t.waiting[who], mine)
	if i < 0 { // it came in the same moment
		t.pass()
		return tooLate
	}
	t.remove(who, i)
	return tooLate
}

func (t *turns) leave() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.pass()
}

// pass gives a turn to the caller who is next. mu is held.
func (t *turns) pass() {
	if len(t.next) == 0 {
		t.free++
		return
	}
	who := t.next[0]
	close(t.waiting[who][0])
	t.next = append(t.next[1:], who)
	t.remove(who, 0)
}

// remove takes one that waits away. mu is held.
func (t *turns) remove(who string, i int) {
	t.waiting[who] = slices.Delete(t.waiting[who], i, i+1)
	if len(t.waiting[who]) == 0 {
		delete(t.waiting, who)
		t.next = slices.DeleteFunc(t.next, func(one string) bool { return one == who })
	}
}

// inTurn makes a call wait until it may compute.
func (h handlers) inTurn(handle gin.HandlerFunc) gin.HandlerFunc {
	return func(c *gin.Context) {
		ctx, stop := context.WithTimeout(c.Request.Context(), h.Queries().MaxTime)
		defer stop()
		switch h.turns.enter(ctx, h.whose(c), mostQueries) {
		case tooLate:
			fail(c, http.StatusServiceUnavailable, "busy",
				"other queries have kept the service busy for "+span.Format(h.Queries().MaxTime)+"; ask again later, or for less")
			return
		case tooMany:
			c.Header("Retry-After", "1")
			fail(c, http.StatusTooManyRequests, "too_many", "too many of your queries wait already; let some end first")
			return
		}
		defer h.turns.leave()
		handle(c)
	}
}

// whose is by what the share of a caller is counted.
func (h handlers) whose(c *gin.Context) string {
	who := callerOf(c)
	if who.Kind == "" || who.Kind == "anyone" {
		return "anyone " + address(c)
	}
	return who.Kind + " " + who.Name
}

// unhurried gives the turn up for as long as a write takes.
type unhurried struct {
	to    io.Writer
	turns *turns
	who   string
}

func (u unhurried) Write(data []byte) (int, error) {
	u.turns.leave()
	n, err := u.to.Write(data)
	u.turns.enter(context.Background(), u.who, maxStreams) // it ends: whoever computes does so for a while only
	return n, err
}

// quota bounds how many of something are open, in all and of one caller.
type quota struct {
	mu  sync.Mutex
	all int
	of  map[string]int
}

const (
	maxStreams       = 500
	mostStreamsOfOne = 100
)

// take reports why no more can be opened; "" when another is. What was taken is given back.
func (q *quota) take(who string) (refusal string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	switch {
	case q.of[who] >= mostStreamsOfOne:
		return "you have as many live streams open as one caller may; close some"
	case q.all >= maxStreams:
		return "too many live streams are open; close some"
	}
	if q.of == nil {
		q.of = map[string]int{}
	}
	q.all++
	q.of[who]++
	return ""
}

func (q *quota) give(who string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.all--
	if q.of[who]--; q.of[who] == 0 {
		delete(q.of, who)
	}
}

// streaming takes a place for a live stream, and answers where there is none.
func (h handlers) streaming(c *gin.Context) (end func(), ok bool) {
	who := h.whose(c)
	if no := h.streams.take(who); no != "" {
		fail(c, http.StatusServiceUnavailable, "too_many", no)
		return nil, false
	}
	return func() { h.streams.give(who) }, true
}
