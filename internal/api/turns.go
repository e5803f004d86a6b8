package api

import (
	"context"
	"io"
	"net/http"
	"runtime"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/core/span"
)

// turns bounds how many queries are computed at a time, so that one processor at least is
// left for what comes in. A query that waits for its client to read gives its turn up.
type turns chan struct{}

func newTurns() turns { return make(turns, max(1, runtime.GOMAXPROCS(0)-1)) }

func (t turns) enter(ctx context.Context, wait time.Duration) bool {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	select {
	case t <- struct{}{}:
		return true
	case <-ctx.Done():
		return false
	}
}

func (t turns) leave() { <-t }

// inTurn makes a call wait until it may compute.
func (h handlers) inTurn(handle gin.HandlerFunc) gin.HandlerFunc {
	return func(c *gin.Context) {
		if !h.turns.enter(c.Request.Context(), h.Queries().MaxTime) {
			fail(c, http.StatusServiceUnavailable, "busy", "other queries have kept the service busy for "+span.Format(h.Queries().MaxTime)+"; ask again later, or for less")
			return
		}
		defer h.turns.leave()
		handle(c)
	}
}

// unhurried gives the turn up for as long as a write takes.
type unhurried struct {
	to    io.Writer
	turns turns
}

func (u unhurried) Write(data []byte) (int, error) {
	u.turns.leave()
	n, err := u.to.Write(data)
	u.turns <- struct{}{}
	return n, err
}
