package api

import (
	"errors"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/query"
	"nexocumula/internal/store/engine"
)

var valuesParameters = names{"select", "label*", "cursor", "limit"}

// mostListed is how many series one answer lists.
const mostListed = 5000

// page returns the part of the series that ?select= names, all of them when it is missing, that ?cursor= and
// ?limit= ask for, by path. next is the path after which the rest comes; nil when this is all.
func (h handlers) page(c *gin.Context) (part []engine.Series, next *string, ok bool) {
	v, ok := valuesParameters.query(c)
	if !ok {
		return nil, nil, false
	}
	selector, err := readSelected(v)
	if err != nil {
		fail(c, http.StatusBadRequest, "select", err.Error())
		return nil, nil, false
	}
	limit, err := whole(v, "limit", mostListed, 1, mostListed)
	if err != nil {
		fail(c, http.StatusBadRequest, "limit", err.Error())
		return nil, nil, false
	}
	part, more := h.Store.Page(selector, series.Path(v.Get("cursor")), int(limit), callerOf(c).Scope.Sees)
	all := v.Get("select") == "" && len(v["label"]) == 0 // an empty store is no mistake
	if len(part) == 0 && !all {
		if _, err := query.Find(h.view(c), selector); err != nil {
			refused(c, err)
			return nil, nil, false
		}
	}
	if more {
		last := string(part[len(part)-1].Path)
		next = &last
	}
	return part, next, true
}

func refused(c *gin.Context, err error) {
	var r *query.RefusedError
	switch {
	case errors.As(err, &r) && (r.Code == "unknown_series" || r.Code == "no_value"):
		fail(c, http.StatusNotFound, r.Code, r.Message)
	case errors.As(err, &r):
		fail(c, http.StatusBadRequest, r.Code, r.Message)
	default:
		fail(c, http.StatusInternalServerError, "store", err.Error())
	}
}

func (h handlers) series(c *gin.Context) {
	found, next, ok := h.page(c)
	if !ok {
		return
	}
	out := client.SeriesList{Series: make([]client.Series, len(found)), Next: next}
	for i, s := range found {
		out.Series[i] = h.seriesOf(s)
	}
	c.JSON(http.StatusOK, out)
}

func (h handlers) seriesOf(s engine.Series) client.Series {
	out := client.Series{
		Path: string(s.Path), Kind: string(s.Kind), Unit: s.Unit, Labels: s.Labels.Map(), FreshFor: span.Format(s.FreshFor), Wrap: s.Wrap, States: s.States.Map(),
		Calibration: string(s.Calibration), Normal: normalOf(s.Normal), FirstSeen: timeOrNil(s.FirstSeen), LastSeen: timeOrNil(s.LastTime),
	}
	out.Tiers = s.Tiers.Texts()
	out.Thinning = thinningOf(s)
	every := s.Every
	if every == 0 && h.Gateway != nil {
		every = h.Gateway.Pipe.Every(s.Path)
		out.EveryLearned = every > 0
	}
	if h.Gateway != nil {
		out.Source, out.Place = h.Gateway.Pipe.From(s.Path)
	}
	if every > 0 {
		out.Every = span.Format(every)
	}
	return out
}

// thinningOf is null of a series of which all readings are kept.
func thinningOf(s engine.Series) *client.Thinning {
	if s.Thinning.Method == 0 && s.ThinnedTo == 0 {
		return nil
	}
	return &client.Thinning{
		Rule:       s.Thinning.String(),
		Until:      timeOrNil(s.ThinnedTo),
		Arrived:    s.Thinned.Arrived,
		Kept:       s.Thinned.Kept,
		WorstError: client.Number(s.Thinned.Worst),
	}
}

func normalOf(n series.Normal) (out client.Normal) {
	inner, outer := n.Ranges()
	list := func(b series.Bounds) []client.Number {
		if b == series.Anything {
			return nil
		}
		return []client.Number{client.Number(b.Low), client.Number(b.High)}
	}
	return client.Normal{Inner: list(inner), Outer: list(outer)}
}

// versions are the definitions that a series has had.
func (h handlers) versions(c *gin.Context) {
	v, ok := names{"path"}.query(c)
	if !ok {
		return
	}
	path, err := series.ParsePath(v.Get("path"))
	if err != nil {
		fail(c, http.StatusBadRequest, "path", err.Error())
		return
	}
	selector, err := series.ParseSelector(string(path))
	if err != nil {
		fail(c, http.StatusBadRequest, "path", err.Error())
		return
	}
	found, err := query.Find(h.view(c), selector)
	if err != nil {
		refused(c, err)
		return
	}
	all, err := h.Records.Versions.Of(found[0].ID, found[0].Definition)
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	out := client.Versions{Path: string(path), Versions: make([]client.Version, len(all))}
	for i, one := range all {
		out.Versions[i] = client.Version{
			Since: pointer(one.Since), Unit: one.Unit, FreshFor: span.Format(one.FreshFor), Wrap: one.Wrap, States: one.States.Map(),
			Calibration: string(one.Calibration), Normal: normalOf(one.Normal), Tiers: one.Tiers.Texts(), Thinning: one.Thinning.String(),
		}
		if one.Every > 0 {
			out.Versions[i].Every = span.Format(one.Every)
		}
	}
	c.JSON(http.StatusOK, out)
}

func (h handlers) latest(c *gin.Context) {
	found, next, ok := h.page(c)
	if !ok {
		return
	}
	out := latest(found, h.now())
	out.Next = next
	c.JSON(http.StatusOK, out)
}

// latest returns the latest values of the series that have one.
func latest(found []engine.Series, now time.Time) client.Now {
	out := client.Now{At: now.UTC(), Values: make([]client.Value, 0, len(found))}
	for _, s := range found {
		if s.LastTime != 0 {
			out.Values = append(out.Values, latestValue(s, now))
		}
	}
	return out
}

func latestValue(s engine.Series, now time.Time) client.Value {
	condition, since := s.Condition(s.LastTime, s.Ended, now.UnixNano())
	return client.Value{
		Path:      string(s.Path),
		Kind:      string(s.Kind),
		Unit:      s.Unit,
		Time:      at(s.LastTime),
		Value:     client.Number(s.LastValue),
		State:     s.States.Name(s.LastValue),
		AgeMS:     now.Sub(time.Unix(0, s.LastTime)).Milliseconds(),
		Fresh:     condition == series.Fresh,
		Condition: string(condition),
		Since:     at(since),
		Ended:     timeOrNil(s.Ended),
		Standing:  string(s.Normal.Of(s.LastValue)),
	}
}

// briefly returns the latest values with what changes of them.
func briefly(found []engine.Series, now time.Time) client.Brief {
	out := client.Brief{At: now.UTC(), Values: make([]client.BriefValue, 0, len(found))}
	for _, s := range found {
		if s.LastTime != 0 {
			out.Values = append(out.Values, briefValue(s))
		}
	}
	return out
}

func briefValue(s engine.Series) client.BriefValue {
	v := client.BriefValue{
		Path:  string(s.Path),
		Unit:  s.Unit,
		Time:  at(s.LastTime),
		Value: client.Number(s.LastValue),
		State: s.States.Name(s.LastValue),
		Ended: timeOrNil(s.Ended),
	}
	if standing := s.Normal.Of(s.LastValue); standing != series.Usual {
		v.Standing = string(standing)
	}
	return v
}

func timeOrNil(ns int64) *time.Time {
	if ns == 0 {
		return nil
	}
	t := time.Unix(0, ns).UTC()
	return &t
}

func pointer(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}
