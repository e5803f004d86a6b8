package api

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/gateway/source"
)

// readSource has a source read its devices now.
func (h handlers) readSource(c *gin.Context) {
	name := c.Param("source")
	g, ok := h.collecting(c)
	if !ok {
		return
	}
	reader, names := g.Reader(name)
	if reader == nil {
		fail(c, http.StatusNotFound, "source",
			fmt.Sprintf("no source that asks devices is called %q; %s", name, there(names)))
		return
	}
	got, err := reader.Read(c.Request.Context(), c.Query("group"))
	var none source.NoGroup
	switch {
	case errors.As(err, &none):
		fail(c, http.StatusNotFound, "group", none.Error())
	case err != nil:
		return // who asked went away
	default:
		c.JSON(http.StatusOK, client.SourceRead{
			Readings: got.Readings,
			Rejects:  got.Rejects,
			Failed:   append([]string{}, got.Failed...),
		})
	}
}

func lineOf(l *source.Line) *client.Line {
	if l == nil {
		return nil
	}
	out := &client.Line{
		Busy: l.Busy, AnswerHalf: l.AnswerHalf.Seconds(), AnswerNearly: l.AnswerMost.Seconds(), Requests: l.Requests, Timeouts: l.Timeouts,
		Garbled: l.Garbled, Exceptions: l.Exceptions, Groups: []client.LineGroup{}, Failures: []client.LineFailure{}, Learned: append([]string{},
			l.Learned...),
	}
	for _, f := range l.Failures {
		out.Failures = append(out.Failures, client.LineFailure{What: f.What, Count: f.Count, LastAt: f.LastAt.UTC()})
	}
	for _, g := range l.Groups {
		out.Groups = append(out.Groups, client.LineGroup{
			Name:    g.Name,
			Every:   g.Every.Seconds(),
			Late:    g.Late.Seconds(),
			Skipped: g.Skipped,
		})
	}
	return out
}
