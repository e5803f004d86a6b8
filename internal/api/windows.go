package api

import (
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/core/window"
	"nexocumula/internal/query"
)

func (h handlers) windows(c *gin.Context) {
	q, err := readWindows(c, time.Now())
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	answer, err := q.Run(c.Request.Context(), h.Store, h.Gateway != nil)
	if err != nil {
		refused(c, err)
		return
	}
	out := client.Windows{
		From: at(answer.Plan.From), To: at(answer.Plan.To), Width: span.Format(answer.Plan.Width), Gaps: q.Gaps.String(),
		Series: make([]client.SeriesWindows, len(answer.Series)),
	}
	for _, s := range q.Stats {
		out.Stats = append(out.Stats, string(s))
	}
	for i, s := range answer.Series {
		out.Series[i] = seriesWindows(s, answer.Plan.Tier, q.Stats)
	}
	c.JSON(http.StatusOK, out)
}

// readWindows reads the query's parameters.
func readWindows(c *gin.Context, now time.Time) (query.Windows, error) {
	var q query.Windows
	var err error
	if c.Query("select") == "" {
		return q, fmt.Errorf("select is missing; name the series, such as select=long-mere/+/water_temp")
	}
	if q.Select, err = series.ParseSelector(c.Query("select")); err != nil {
		return q, err
	}
	if q.Stats, err = window.ParseStats(c.Query("stats")); err != nil {
		return q, err
	}
	if q.Gaps, err = window.ParseGaps(c.Query("gaps")); err != nil {
		return q, err
	}
	if text := c.Query("width"); text != "" {
		if q.Width, err = span.Parse(text); err != nil {
			return q, fmt.Errorf("width: %w", err)
		}
	}
	q.From, q.To, err = readRange(c.Query("from"), c.Query("to"), c.Query("last"), now)
	return q, err
}

// readRange reads from and to, or last; without any it is the last hour.
func readRange(fromText, toText, last string, now time.Time) (from, to time.Time, err error) {
	if fromText == "" {
		if toText != "" {
			return from, to, fmt.Errorf("from is missing beside to; or use last, such as last=24h")
		}
		if last == "" {
			last = "1h"
		}
		length, err := span.Parse(last)
		if err != nil {
			return from, to, fmt.Errorf("last: %w", err)
		}
		return now.Add(-length), now, nil
	}
	if last != "" {
		return from, to, fmt.Errorf("from and last are both given; use one of them")
	}
	if from, err = readTime("from", fromText); err != nil {
		return from, to, err
	}
	if toText == "" {
		return from, now, nil
	}
	to, err = readTime("to", toText)
	return from, to, err
}

func readTime(name, text string) (time.Time, error) {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil || t.Year() < 1971 || t.Year() > 2200 {
		return t, fmt.Errorf("%s: %q is not an RFC 3339 time such as 2026-03-01T08:00:00Z", name, text)
	}
	return t, nil
}

func seriesWindows(s query.SeriesRows, tier rollup.Tier, stats []window.Stat) client.SeriesWindows {
	out := client.SeriesWindows{
		Path: string(s.Path), Kind: string(s.Kind), Unit: s.Unit, Tier: tier.String(), Coverage: client.Number(s.Coverage),
		Starts: make([]time.Time, len(s.Starts)), Values: map[string][]client.Number{}, Filled: append([]bool{}, s.Filled...),
	}
	for i, start := range s.Starts {
		out.Starts[i] = at(start)
	}
	for i, stat := range stats {
		column := make([]client.Number, len(s.Starts))
		for k, v := range s.Rows.Stats[i] {
			column[k] = client.Number(v)
		}
		out.Values[string(stat)] = column
	}
	if w := s.Whole; w.Count > 0 {
		of := func(stat window.Stat) client.Number { return client.Number(stat.Of(w, 0, s.Kind)) }
		out.Whole = &client.Whole{
			Count: of(window.Count), Mean: of(window.Mean), SD: of(window.SD), First: of(window.First), Last: of(window.Last),
			Min: of(window.Min), MinAt: at(w.MinAt), Max: of(window.Max), MaxAt: at(w.MaxAt),
		}
	}
	return out
}

func at(ns int64) time.Time { return time.Unix(0, ns).UTC() }
