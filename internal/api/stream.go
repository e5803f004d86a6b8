package api

import (
	"io"
	"net/http"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/access"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// stream sends all latest values at once and from then on those that changed, as
// Server-Sent Events named "now".
func (h handlers) stream(c *gin.Context) {
	v, ok := names{"select", "brief"}.query(c)
	if !ok {
		return
	}
	brief, err := readYes(v, "brief")
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
	say := func(news []engine.Series) any { return latest(news, h.now()) }
	if brief {
		say = func(news []engine.Series) any { return briefly(news, h.now()) }
	}
	changes, leave := h.hub.watch() // first, so that nothing is missed in between
	defer leave()
	c.Header("Cache-Control", "no-store")
	who := callerOf(c)
	news := h.view(c).List(selector)
	for first := true; ; first = false {
		if len(news) > 0 || first {
			c.SSEvent("now", say(news))
		} else if _, err := io.WriteString(c.Writer, ": nothing new\n\n"); err != nil {
			return // a comment keeps the connection in use, and finds it broken
		}
		c.Writer.Flush()
		if c.Errors.Last() != nil {
			return
		}
		select {
		case changed, open := <-changes:
			if !open {
				return
			}
			if !h.Gate.Book.Still(who) {
				return // the session is over, or may see something else now
			}
			news = matching(changed, selector, who.Scope)
		case <-c.Request.Context().Done():
			return
		case <-h.Stopping:
			return
		}
	}
}

func matching(changed []engine.Changed, selector series.Selector, sees access.Scope) (out []engine.Series) {
	for _, s := range changed {
		if selector.Match(s.Path) && sees.Sees(s.Path) {
			out = append(out, s.Series)
		}
	}
	return out
}
