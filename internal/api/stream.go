package api

import (
	"io"
	"net/http"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/core/series"
)

// stream sends all latest values at once and from then on those that changed, as
// Server-Sent Events named "now".
func (h handlers) stream(c *gin.Context) {
	v, ok := names{"select", "brief"}.query(c)
	if !ok {
		return
	}
	brief, err := readBool(v, "brief")
	if err != nil {
		fail(c, http.StatusBadRequest, "brief", err.Error())
		return
	}
	selector, err := readSelected(v)
	if err != nil {
		fail(c, http.StatusBadRequest, "select", err.Error())
		return
	}
	end, ok := h.streaming(c)
	if !ok {
		return
	}
	defer end()
	changes, leave := h.hub.watch() // first, so that nothing is missed in between
	defer leave()
	c.Header("Cache-Control", "no-store")
	who := callerOf(c)
	found := h.view(c).List(selector)
	if brief {
		c.SSEvent("now", briefly(found, h.now()))
	} else {
		c.SSEvent("now", latest(found, h.now()))
	}
	everything := selector.String() == series.Everything().String() && who.Scope.Everything()
	sees := func(path series.Path) bool { return selector.Match(path) && who.Scope.Sees(path) }
	var room []byte
	for {
		c.Writer.Flush()
		if c.Errors.Last() != nil {
			return
		}
		select {
		case all, open := <-changes:
			if !open || !h.Gate.Book.Still(who) {
				return // it did not read, or the session is over, or may see something else now
			}
			if room, err = tellNews(c.Writer, room, all, brief, everything, sees); err != nil {
				return
			}
		case <-c.Request.Context().Done():
			return
		case <-h.Stopping:
			return
		}
	}
}

// tellNews writes an event for each of the news that has something for the stream. room is memory for that.
func tellNews(to io.Writer, room []byte, all []*news, brief, everything bool, sees func(series.Path) bool) ([]byte, error) {
	told := false
	for _, one := range all {
		event, err := one.event(room, brief, everything, sees)
		if err != nil {
			return room, err
		}
		if !everything {
			room = event
		}
		if len(event) == 0 {
			continue
		}
		told = true
		if _, err := to.Write(event); err != nil {
			return room, err
		}
	}
	if told {
		return room, nil
	}
	_, err := io.WriteString(to, ": nothing new\n\n") // a comment keeps the connection in use, and finds it broken
	return room, err
}
