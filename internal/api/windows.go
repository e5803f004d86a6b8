package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/query"
)

func (h handlers) windows(c *gin.Context) {
	q, err := readWindows(c, h.now())
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	out := &windowsWriter{to: c.Writer, query: q}
	err = q.Run(c.Request.Context(), h.source(), out)
	switch {
	case err != nil && !out.begun:
		refused(c, err)
	case err == nil:
		err = out.end(nil)
	case c.Request.Context().Err() == nil: // the client is still there: say why the rest is missing
		h.Log.Error("an answer could not be finished", "path", c.Request.URL.Path, "error", err)
		err = out.end(errorOf(err))
	}
	if err != nil && out.begun {
		c.Abort() // nobody is left to tell
	}
}

func (h handlers) source() query.Source {
	return query.Source{Store: h.Store, Tiers: h.Tiers, Limits: h.Queries}
}

func errorOf(err error) *client.Error {
	var r *query.Refusal
	if errors.As(err, &r) {
		return &client.Error{Code: r.Code, Message: r.Message}
	}
	return &client.Error{Code: "store", Message: err.Error()}
}

// windowsWriter writes an answer series by series, so that none is ever held whole.
type windowsWriter struct {
	to     gin.ResponseWriter
	query  query.Windows
	head   query.Head
	begun  bool
	series int
}

// Head begins the answer: all of a client.Windows up to its series.
func (w *windowsWriter) Head(head query.Head) error {
	w.head = head
	q := w.query
	out := client.Windows{
		From: head.From, To: head.To, Zone: q.Grid.Zone.String(), Width: "whole", Gaps: q.Gaps.String(), Stats: []string{},
		Starts: make([]time.Time, len(head.Windows)), Ends: make([]time.Time, len(head.Windows)),
	}
	if !head.Width.IsZero() {
		out.Width = head.Width.String()
	}
	out.Stride = out.Width
	if !q.Grid.Stride.IsZero() {
		out.Stride = q.Grid.Stride.String()
	}
	for _, s := range head.Stats {
		out.Stats = append(out.Stats, s.String())
	}
	for i, one := range head.Windows {
		out.Starts[i], out.Ends[i] = at(one.From), at(one.To)
	}
	text, err := json.Marshal(out)
	if err != nil {
		return err
	}
	w.begun = true
	w.to.Header().Set("Content-Type", "application/json; charset=utf-8")
	w.to.WriteHeader(http.StatusOK)
	const rest = `null}` // of the series, which follow
	_, err = w.to.Write(append(text[:len(text)-len(rest)], '['))
	return err
}

// Series adds one.
func (w *windowsWriter) Series(rows query.SeriesRows) error {
	text, err := json.Marshal(seriesWindows(rows))
	if err != nil {
		return err
	}
	if w.series++; w.series > 1 {
		text = append([]byte{','}, text...)
	}
	_, err = w.to.Write(text)
	return err
}

func (w *windowsWriter) end(cause *client.Error) error {
	text := []byte("]}\n")
	if cause != nil {
		said, err := json.Marshal(cause)
		if err != nil {
			return err
		}
		text = append(append([]byte(`],"error":`), said...), "}\n"...)
	}
	_, err := w.to.Write(text)
	return err
}

func seriesWindows(s query.SeriesRows) client.SeriesWindows {
	out := client.SeriesWindows{
		Name: s.Name, Kind: string(s.Kind), Unit: s.Unit, Labels: s.Labels.Map(), Tier: s.Tier.String(), Members: s.Members,
		Coverage: client.Number(s.Coverage), Values: map[string]client.Numbers{}, Times: map[string]client.Times{},
		Empty: s.Empty, Filled: s.Filled, Open: s.Open,
		Whole: client.Whole{Values: map[string]client.Number{}, Times: map[string]*time.Time{}},
	}
	if !s.Shift.IsZero() {
		out.Shift = s.Shift.String()
	}
	for i, stat := range s.Stats {
		if s.Times[i] == nil {
			out.Values[stat] = s.Rows.Stats[i]
			out.Whole.Values[stat] = client.Number(s.Whole[i])
			continue
		}
		times := make(client.Times, len(s.Times[i]))
		for k, ns := range s.Times[i] {
			times[k] = timeOrNil(ns)
		}
		out.Times[stat] = times
		out.Whole.Times[stat] = timeOrNil(s.WholeTimes[i])
	}
	return out
}

func at(ns int64) time.Time { return time.Unix(0, ns).UTC() }
