package api

import (
	"cmp"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/records"
)

const (
	maxRejects = 1000
	maxReplay  = 20_000 // more are not kept
)

func (h handlers) rejects(c *gin.Context) {
	v, ok := names{"source", "rule", "select", "cursor", "limit", "from", "to", "last", "range", "zone"}.query(c)
	if !ok {
		return
	}
	wanted, err := wantedRejects(v.Get("source"), v.Get("rule"), v.Get("select"))
	if err == nil {
		wanted.Before, err = whole(v, "cursor", 0, 1, math.MaxInt64)
	}
	if err == nil {
		from, to, given, wrong := readSpan(v, h.now())
		if err = wrong; given && err == nil {
			wanted.From, wanted.To = from.UnixNano(), to.UnixNano()
		}
	}
	var limit uint64
	if err == nil {
		limit, err = whole(v, "limit", 50, 1, maxRejects)
	}
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	wanted.Most = int(limit)
	found, err := h.Records.Rejects.List(wanted)
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	out := client.Rejects{Rejects: make([]client.Reject, len(found))}
	for i, r := range found {
		out.Rejects[i] = rejectOf(r)
	}
	if len(found) == wanted.Most {
		out.Next = cursorOf(found[len(found)-1].ID)
	}
	c.JSON(http.StatusOK, out)
}

// cursorOf goes on with what has a lower number.
func cursorOf(id uint64) *string {
	text := strconv.FormatUint(id, 10)
	return &text
}

func whole(v url.Values, name string, otherwise, least, most uint64) (uint64, error) {
	text := v.Get(name)
	if text == "" {
		return otherwise, nil
	}
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil || n < least || n > most {
		return 0, fmt.Errorf("%s %q: use %d to %d", name, text, least, most)
	}
	return n, nil
}

func wantedRejects(source, rule, selector string) (out records.Wanting, err error) {
	out.Source, out.Rule = source, rule
	if selector != "" {
		out.Series, err = series.ParseSelector(selector)
	}
	return out, err
}

func rejectOf(r reading.Reject) client.Reject {
	out := client.Reject{
		ID: r.ID, Time: at(r.Time), Source: r.Source, Place: r.Place, Rule: r.Rule, Reason: r.Reason, Raw: append([]byte{},
			r.Raw...), ReplayedAt: timeOrNil(r.Replayed),
	}
	if one := r.Reading; one != nil {
		out.Series, out.Value, out.Text, out.Unit, out.ReadingTime = string(one.Path), client.Number(one.Value), one.Text, one.Unit, timeOrNil(one.Time)
	} else {
		out.Value = client.Number(math.NaN())
	}
	return out
}

// reject is one, whole.
func (h handlers) reject(c *gin.Context) {
	id, err := strconv.ParseUint(c.Param("id"), 10, 63)
	if err != nil {
		fail(c, http.StatusBadRequest, "id",
			fmt.Sprintf("%q is no number of a reject; /api/v1/rejects lists them", c.Param("id")))
		return
	}
	found, err := h.Records.Rejects.Get(id)
	switch {
	case err != nil:
		fail(c, http.StatusInternalServerError, "store", err.Error())
	case found == nil:
		fail(c, http.StatusNotFound, "id",
			fmt.Sprintf("there is no reject %d, or it is no longer kept; the newest %d are", id, maxReplay))
	default:
		c.JSON(http.StatusOK, rejectOf(*found))
	}
}

// rejectCounts answers with the number of rejects, hour by hour.
func (h handlers) rejectCounts(c *gin.Context) {
	v, ok := names{"from", "to"}.query(c)
	if !ok {
		return
	}
	to := h.now()
	from := to.Add(-24 * time.Hour)
	for _, end := range []struct {
		name string
		into *time.Time
	}{{"from", &from}, {"to", &to}} {
		if text := v.Get(end.name); text != "" {
			at, err := time.Parse(time.RFC3339, text)
			if err != nil {
				fail(c, http.StatusBadRequest, end.name,
					fmt.Sprintf("%s %q is no time; write one such as 2026-03-01T08:00:00Z", end.name, text))
				return
			}
			*end.into = at
		}
	}
	if !from.Before(to) {
		fail(c, http.StatusBadRequest, "range", "from is not before to")
		return
	}
	from = from.Truncate(time.Hour)
	found, err := h.Records.Rejects.Counts(from, to)
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	out := client.RejectCounts{From: from.UTC(), To: to.UTC(), Counts: make([]client.RejectCount, len(found))}
	for i, n := range found {
		out.Counts[i] = client.RejectCount{Hour: n.Hour, Source: n.Source, Rule: n.Rule, Count: n.Count}
	}
	c.JSON(http.StatusOK, out)
}

// replay sends rejects their way once more.
func (h handlers) replay(c *gin.Context) {
	g, ok := h.collecting(c)
	if !ok {
		return
	}
	want, ok := request[client.Replay](c)
	if !ok {
		return
	}
	rejects, err := h.replayed(want)
	if err != nil {
		fail(c, http.StatusBadRequest, "body", err.Error())
		return
	}
	longer(c)
	done, err := g.Replay(c.Request.Context(), rejects)
	if err != nil {
		fail(c, http.StatusServiceUnavailable, "store",
			fmt.Sprintf("not all is known to be on disk; send it again, nothing counts twice: %v", err))
		return
	}
	out := client.ReplayOutcome{Looked: len(done), Refused: []client.StillRefused{}}
	for _, one := range done {
		if one.Reason == "" {
			out.Passed++
			out.Readings += one.Readings
			continue
		}
		if len(out.Refused) < mostRefusedTold {
			out.Refused = append(out.Refused, client.StillRefused{ID: one.ID, Reason: one.Reason})
		}
	}
	c.JSON(http.StatusOK, out)
}

func (h handlers) replayed(want client.Replay) (out []reading.Reject, err error) {
	if len(want.IDs) > 0 && (want.Source != "" || want.Rule != "" || want.Select != "") {
		return nil, fmt.Errorf("give ids, or source, rule and select")
	}
	if len(want.IDs) > maxReplay {
		return nil, fmt.Errorf("%d ids are given; at most %d rejects are kept", len(want.IDs), maxReplay)
	}
	for _, id := range want.IDs {
		one, err := h.Records.Rejects.Get(id)
		if err != nil {
			return nil, err
		}
		if one == nil {
			return nil, fmt.Errorf("there is no reject %d, or it is no longer kept", id)
		}
		out = append(out, *one)
	}
	if len(want.IDs) > 0 {
		return out, nil
	}
	wanted, err := wantedRejects(want.Source, want.Rule, want.Select)
	if err != nil {
		return nil, err
	}
	wanted.Counting, wanted.Most = true, cmp.Or(want.Limit, maxReplay)
	if wanted.Most < 1 || wanted.Most > maxReplay {
		return nil, fmt.Errorf("limit %d: use 1 to %d", wanted.Most, maxReplay)
	}
	return h.Records.Rejects.List(wanted)
}
