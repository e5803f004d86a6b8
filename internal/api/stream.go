package api

import (
	"io"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

const (
	streamEvery = time.Second
	maxStreams  = 500
)

// stream sends all latest values at once and from then on those that changed, as
// Server-Sent Events named "now".
func (h handlers) stream(c *gin.Context) {
	selector, err := series.ParseSelector(c.DefaultQuery("select", "#"))
	if err != nil {
		fail(c, http.StatusBadRequest, "select", err.Error())
		return
	}
	if h.streams.Add(1) > maxStreams {
		h.streams.Add(-1)
		fail(c, http.StatusServiceUnavailable, "too_many", "too many live streams are open; close some")
		return
	}
	defer h.streams.Add(-1)
	sent := map[uint32]int64{}
	tick := time.NewTicker(streamEvery)
	defer tick.Stop()
	c.Header("Cache-Control", "no-store")
	for first := true; ; first = false {
		changed := unsent(h.Store.List(selector), sent)
		if len(changed) > 0 || first {
			c.SSEvent("now", latest(changed, time.Now()))
		} else if _, err := io.WriteString(c.Writer, ": nothing new\n\n"); err != nil {
			return // a comment keeps the connection in use, and finds it broken
		}
		c.Writer.Flush()
		select {
		case <-tick.C:
		case <-c.Request.Context().Done():
			return
		case <-h.Stopping:
			return
		}
	}
}

// unsent picks the series whose latest value is newer than what sent says, and notes
// it there.
func unsent(all []store.Series, sent map[uint32]int64) []store.Series {
	var out []store.Series
	for _, s := range all {
		if s.LastTime > sent[s.ID] {
			sent[s.ID] = s.LastTime
			out = append(out, s)
		}
	}
	return out
}
