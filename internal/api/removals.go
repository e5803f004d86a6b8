package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/series"
	"nexocumula/internal/plain"
	"nexocumula/internal/removal"
	"nexocumula/internal/store/engine"
)

// Remover removes readings and summaries for good.
type Remover interface {
	Count(ctx context.Context, w removal.Wanted) ([]engine.Erased, error)
	Remove(ctx context.Context, w removal.Wanted) error
}

const (
	longestReason = 300 // bytes
	mostRemoved   = 1000
)

// removeRows removes readings and summaries of a time, or counts them.
func (h handlers) removeRows(c *gin.Context) {
	in, ok := request[client.NewRemoval](c)
	if !ok {
		return
	}
	w := removal.Wanted{From: in.From, To: in.To, Author: callerOf(c).Name, Reason: strings.TrimSpace(in.Reason)}
	selector, err := series.ParseSelector(in.Select)
	switch {
	case err != nil:
	case !in.To.After(in.From) || in.From.Before(time.Unix(0, 0)):
		err = fmt.Errorf("from %s to %s is no time; to is later than from, and both are after 1970", in.From.Format(time.RFC3339),
			in.To.Format(time.RFC3339))
	case in.To.After(h.now()):
		err = fmt.Errorf("to is %s, and what is still to come cannot be removed; give a time that is over",
			in.To.Format(time.RFC3339))
	case w.Reason == "" || len(w.Reason) > longestReason:
		err = fmt.Errorf("the reason has %d bytes; write 1 to %d, for those who find the gap", len(w.Reason), longestReason)
	default:
		err = plain.CheckText(w.Reason)
	}
	if err != nil {
		fail(c, http.StatusBadRequest, "body", err.Error())
		return
	}
	w.Series = h.view(c).List(selector)
	switch n := len(w.Series); {
	case n == 0:
		fail(c, http.StatusNotFound, "unknown_series",
			fmt.Sprintf("no series matches %s; nexocumula series list shows what there is", in.Select))
		return
	case n > mostRemoved:
		fail(c, http.StatusBadRequest, "too_large",
			fmt.Sprintf("%s names %d series; at most %d are removed of at once: name fewer", in.Select, n, mostRemoved))
		return
	}
	counts, err := h.Remover.Count(c.Request.Context(), w)
	if err == nil && !in.DryRun {
		err = h.Remover.Remove(context.WithoutCancel(c.Request.Context()), w) // who goes away has removed it all the same
	}
	if uneven, ok := errors.AsType[*removal.Uneven](err); ok {
		fail(c, http.StatusConflict, "uneven", uneven.Error())
		return
	}
	if _, ok := errors.AsType[*removal.Later](err); ok {
		note(c, "%s from %s to %s, recorded and not yet taken out: %s", in.Select, in.From.Format(time.RFC3339), in.To.Format(time.RFC3339), w.Reason)
	}
	if err != nil {
		fail(c, http.StatusServiceUnavailable, "store", err.Error())
		return
	}
	out := client.Removal{From: in.From.UTC(), To: in.To.UTC(), DryRun: in.DryRun, Series: []client.RemovedRows{}}
	for i, one := range counts {
		out.Readings += one.Readings
		out.Summaries += one.Summaries
		out.Series = append(out.Series,
			client.RemovedRows{Path: string(w.Series[i].Path), Readings: one.Readings, Summaries: one.Summaries})
	}
	if in.DryRun {
		note(c, "counted only: %s from %s to %s", in.Select, out.From.Format(time.RFC3339), out.To.Format(time.RFC3339))
	} else {
		note(c, "%s from %s to %s: %d readings, %d summaries: %s", in.Select, out.From.Format(time.RFC3339),
			out.To.Format(time.RFC3339), out.Readings, out.Summaries, w.Reason)
	}
	c.JSON(http.StatusOK, out)
}
