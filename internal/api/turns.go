package api

import (
	"context"
	"io"
	"net/http"
	"sync"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/query"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/turns"
)

// mostQueries is how many queries of one caller may wait.
const mostQueries = 100

// turnKey is where a call's turn stands in its context.
const turnKey = "turn"

// inTurn makes a call wait until it may compute. One processor at least is left for what comes in.
func (h handlers) inTurn(handle gin.HandlerFunc) gin.HandlerFunc {
	return func(c *gin.Context) {
		ctx, stop := context.WithTimeout(c.Request.Context(), h.Queries().MaxTime)
		defer stop()
		turn, outcome := h.turns.Enter(ctx, h.whose(c), mostQueries)
		switch outcome {
		case turns.TooLate:
			fail(c, http.StatusServiceUnavailable, "busy",
				"other queries have kept the service busy for "+span.Format(h.Queries().MaxTime)+"; ask again later, or for less")
			return
		case turns.TooMany:
			c.Header("Retry-After", "1")
			fail(c, http.StatusTooManyRequests, "too_many", "too many of your queries wait already; let some end first")
			return
		}
		defer turn.Leave()
		c.Set(turnKey, turn)
		handle(c)
	}
}

// turnOf returns the turn of a call that is made inTurn; nil of another.
func turnOf(c *gin.Context) *turns.Turn {
	turn, _ := c.Get(turnKey)
	mine, _ := turn.(*turns.Turn)
	return mine
}

// paced is a store that lets other queries go on before each read, and between the chunks of a long one.
type paced struct {
	query.Reader
	turn *turns.Turn
}

func (p paced) Scan(ctx context.Context, id uint32, w engine.Wanted, sink engine.Sink) error {
	pause := func() error { return p.turn.Pause(ctx) }
	if err := pause(); err != nil {
		return err
	}
	w.Pause = pause
	return p.Reader.Scan(ctx, id, w, sink)
}

func (p paced) LastBefore(ctx context.Context, id uint32, tier series.Tier, t int64) (at int64, value float64, ok bool, err error) {
	if err := p.turn.Pause(ctx); err != nil {
		return 0, 0, false, err
	}
	return p.Reader.LastBefore(ctx, id, tier, t)
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
	to   io.Writer
	turn *turns.Turn
}

func (u unhurried) Write(data []byte) (n int, err error) {
	u.turn.Without(func() { n, err = u.to.Write(data) })
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
