package api

import (
	"context"
	"errors"
	"net/http"
	"path/filepath"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/access"
	"nexocumula/internal/core/series"
	"nexocumula/internal/fieldwork"
	"nexocumula/internal/gateway/mqtt"
	"nexocumula/internal/query"
)

// answered sends what a tool of the field found, or why it found nothing.
func answered(c *gin.Context, out any, err error) {
	var wrong fieldwork.Wrong
	switch {
	case c.Request.Context().Err() != nil: // who asked went away
	case errors.As(err, &wrong):
		fail(c, http.StatusBadRequest, "body", err.Error())
	case err != nil:
		fail(c, http.StatusBadGateway, "field", err.Error())
	default:
		c.JSON(http.StatusOK, out)
	}
}

// tool makes a call of a function that takes and returns JSON.
func tool[In, Out any](h handlers, do func(ctx context.Context, in In) (Out, error)) gin.HandlerFunc {
	return func(c *gin.Context) {
		if _, ok := h.collecting(c); !ok {
			return
		}
		in, ok := request[In](c)
		if !ok {
			return
		}
		longer(c)
		out, err := do(c.Request.Context(), in)
		answered(c, out, err)
	}
}

// longest is how long devices and brokers may be asked in one call.
const longest = time.Hour

// longer lets a call take longer than the server lets others.
func longer(c *gin.Context) {
	_ = http.NewResponseController(c.Writer).SetReadDeadline(time.Now().Add(longest)) // in tests there is none
}

// probe and scan note in the audit what they ask.
func (h handlers) probe(c *gin.Context) {
	tool(h, func(ctx context.Context, in client.Probe) (out client.Probed, err error) {
		note(c, "%s, unit %d, %s %d, %d registers", in.Source+in.Address, in.Unit, in.Table, in.First, in.Count)
		if in.Address, err = fieldwork.Pinned(ctx, h.Field(), in.Address); err != nil {
			return out, err
		}
		return fieldwork.Probe(ctx, h.Gateway, in)
	})(c)
}

func (h handlers) scan(c *gin.Context) {
	tool(h, func(ctx context.Context, in client.Scan) (out client.Scanned, err error) {
		if in.Units {
			note(c, "%s, units %d to %d", in.Source+in.Address, in.Unit, in.ToUnit)
		} else {
			note(c, "%s, unit %d, %s %d to %d", in.Source+in.Address, in.Unit, in.Table, in.From, in.To)
		}
		if in.Address, err = fieldwork.Pinned(ctx, h.Field(), in.Address); err != nil {
			return out, err
		}
		return fieldwork.Scan(ctx, h.Gateway, in)
	})(c)
}

func (h handlers) lines(_ context.Context, in client.LinesFor) (client.Lines, error) {
	return fieldwork.Lines(in)
}

// appendLines notes in the audit what becomes of the file.
func (h handlers) appendLines(c *gin.Context) {
	tool(h, func(_ context.Context, in client.Append) (client.Appended, error) {
		file := h.File()
		if file == "" {
			return client.Appended{}, errNoFile
		}
		allowed := h.Field()
		out, err := fieldwork.Append(file, in, &allowed, filepath.Dir(h.Store.Path()))
		if out.Written {
			note(c, "%s\n%s", file, out.Difference)
		} else {
			note(c, "%s: shown, nothing written", file)
		}
		return out, err
	})(c)
}

var errSessionOver = errors.New("the session is over; log in again")

var errNoFile = errors.New("this service was not started from a file")

func (h handlers) check(ctx context.Context, in client.Check) (client.Checked, error) {
	if h.File() == "" {
		return client.Checked{}, errNoFile
	}
	return fieldwork.Check(ctx, h.Gateway, h.File(), in, h.Field())
}

// plan reckons what the service's file costs.
func (h handlers) plan(c *gin.Context) {
	if _, ok := h.collecting(c); !ok {
		return
	}
	if _, ok := (names{}).query(c); !ok {
		return
	}
	if h.File() == "" {
		answered(c, nil, errNoFile)
		return
	}
	found := h.Store.List(series.Everything())
	heard := make([]client.Series, len(found))
	for i, s := range found {
		heard[i] = h.seriesOf(s)
	}
	now := h.now()
	if counts, err := query.Counts(c.Request.Context(), h.source(c), series.Everything(), now.Add(-fieldwork.HeardFor),
		now); err == nil {
		heard = fieldwork.HowOften(heard, counts, now) // otherwise it goes by what was learned
	}
	out, err := fieldwork.PlanOf(h.Gateway, h.File(), heard)
	answered(c, out, err)
}

// watchField sends what is published so far every second, as Server-Sent Events named
// "watched", and says in one named "failed" why it cannot.
func (h handlers) watchField(c *gin.Context) {
	g, ok := h.collecting(c)
	if !ok {
		return
	}
	v, ok := names{"source", "address", "topics"}.query(c)
	if !ok {
		return
	}
	end, ok := h.streaming(c)
	if !ok {
		return
	}
	defer end()
	ctx, stop := context.WithCancel(c.Request.Context())
	defer stop()
	go func() {
		select {
		case <-h.Stopping:
			stop()
		case <-ctx.Done():
		}
	}()
	target := v.Get("source") + v.Get("address")
	place, err := fieldwork.Pinned(ctx, h.Field(), v.Get("address"))
	e := access.Entry{Action: "field.watch", Outcome: access.Done, Target: target + " " + v.Get("topics")}
	if err != nil {
		e.Outcome, e.Reason = access.Failed, err.Error()
	}
	_ = h.Gate.Book.Note(callerOf(c).By(), e) // when it begins; that it cannot be written is reported as a trouble
	if err != nil {
		answered(c, nil, err)
		return
	}
	longer(c)
	c.Header("Cache-Control", "no-store")
	begun := false
	err = fieldwork.Watch(ctx, g, fieldwork.Watching{
		Source:        v.Get("source"),
		BrokerAddress: mqtt.BrokerAddress{Address: place},
		Topics:        v.Get("topics"),
	}, func(now client.Watched) error {
		begun = true
		if !h.Gate.Book.Still(callerOf(c)) {
			return errSessionOver
		}
		c.SSEvent("watched", now)
		c.Writer.Flush()
		if last := c.Errors.Last(); last != nil {
			return last
		}
		return nil
	})
	switch {
	case err == nil || ctx.Err() != nil:
	case !begun:
		answered(c, nil, err)
	default:
		c.SSEvent("failed", client.Error{Code: "field", Message: err.Error()})
		c.Writer.Flush()
	}
}
