package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/event"
	"nexocumula/internal/query"
)

// answer is a writer of an answer in one of the forms. Rows are written as they come, so
// that no answer is ever held whole.
type answer interface {
	// begun reports that something was sent, so that it is too late for a refusal.
	begun() bool
	// end completes the answer; with a cause it says why the rest is missing, where the
	// form has room for it.
	end(cause *client.Error) error
}

func (h handlers) windows(c *gin.Context) {
	q, err := readWindows(c, h.now())
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	to := newBuffered(c.Writer, turnOf(c))
	var out interface {
		answer
		query.Sink
	}
	switch form, err := formOf(c, asWide); {
	case err != nil:
		fail(c, http.StatusNotAcceptable, "format", err.Error())
		return
	case form == asCSV:
		out = newTable(q, newCSV(to, h.newMissing(q)))
	case form == asWide:
		out = newTable(q, newWide(to, q))
	case form == asArrow:
		out = newTable(q, newArrow(to))
	default:
		out = &windowsJSON{to: to, query: q, missing: h.newMissing(q)}
	}
	h.complete(c, out, q.Run(c.Request.Context(), h.source(c), out))
}

// complete ends an answer. One that breaks off ends the connection too, lest a client that
// does not look inside take it for whole.
func (h handlers) complete(c *gin.Context, out answer, err error) {
	switch {
	case err != nil && !out.begun():
		refused(c, err)
		return
	case err == nil:
		err = out.end(nil)
	case c.Request.Context().Err() == nil: // the client is still there: say why the rest is missing
		event.AnswerUnfinished.To(h.Log, "path", c.Request.URL.Path, "error", err)
		_ = out.end(errorOf(err))
	}
	if err != nil {
		c.Writer.Flush() // what came so far is right
		breakOff(c.Writer)
		c.Abort()
	}
}

func (h handlers) source(c *gin.Context) query.Source {
	out := query.Source{Store: h.view(c), Limits: h.Queries(), Fetched: h.Fetched}
	if turn := turnOf(c); turn != nil {
		out.Store, out.Beside = paced{out.Store, turn}, h.turns.Beside
	}
	return out
}

func errorOf(err error) *client.Error {
	var r *query.RefusedError
	if errors.As(err, &r) {
		return &client.Error{Code: r.Code, Message: r.Message}
	}
	return &client.Error{Code: "store", Message: err.Error()}
}

// form is how an answer is written.
type form string

const (
	asJSON  form = "json"
	asCSV   form = "csv"
	asArrow form = "arrow"
	asWide  form = "wide" // CSV with a column for each series
)

const (
	typeJSON  = "application/json; charset=utf-8"
	typeCSV   = "text/csv; charset=utf-8"
	typeArrow = "application/vnd.apache.arrow.stream"
)

// formOf returns the form that a call asks for: with format, or else with the header Accept. A call may have
// forms beside the usual ones.
func formOf(c *gin.Context, also ...form) (form, error) {
	known := append([]form{asJSON, asCSV, asArrow}, also...)
	if f := form(c.Query("format")); slices.Contains(known, f) {
		return f, nil
	} else if f != "" {
		return "", fmt.Errorf("format %q is not known; use one of %v", f, known)
	}
	accept := c.GetHeader("Accept")
	switch {
	case strings.Contains(accept, "text/csv"):
		return asCSV, nil
	case strings.Contains(accept, typeArrow):
		return asArrow, nil
	}
	return asJSON, nil
}
