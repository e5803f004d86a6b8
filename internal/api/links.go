package api

import (
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/access"
	"nexocumula/internal/store/records"
)

const (
	linksOver   = 30 * 24 * time.Hour
	mostWaiting = 2000 // of what waited for a link
)

// linkHistory answers with the outages and backlogs of a time range.
func (h handlers) linkHistory(c *gin.Context) {
	v, ok := names{"from", "to", "last", "range", "zone"}.query(c)
	if !ok {
		return
	}
	from, to, given, err := readSpan(v, h.now())
	if err != nil {
		fail(c, http.StatusBadRequest, "range", err.Error())
		return
	}
	if !given {
		from, to = h.now().Add(-linksOver), h.now()
	}
	outages, err := h.Records.Links.Outages(from, to)
	var waited []records.Waiting
	if err == nil {
		waited, err = h.Records.Links.Waited(from, to)
	}
	var runs []records.Run
	if err == nil {
		runs, err = h.Records.Links.Runs(from, to)
	}
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	out := client.LinkHistory{
		From:  from.UTC(),
		To:    to.UTC(),
		Ran:   make([]client.LinkSpan, len(runs)),
		Links: []client.LinkAccounts{},
	}
	for i, r := range runs {
		out.Ran[i] = client.LinkSpan(r)
	}
	sees := callerOf(c).Scope
	by := map[string]*client.LinkAccounts{}
	of := func(link string) *client.LinkAccounts {
		if by[link] == nil {
			by[link] = &client.LinkAccounts{Link: link, Outages: []client.Outage{}, Waiting: []client.WaitingRows{}}
		}
		return by[link]
	}
	for _, link := range h.linkNames() {
		of(link)
	}
	for _, o := range outages {
		into := of(o.Link)
		into.Outages = append(into.Outages, outageOf(o))
	}
	for _, w := range fewer(waited, to.Sub(from)/mostWaiting) {
		into := of(w.Link)
		into.Waiting = append(into.Waiting, client.WaitingRows{At: w.At, Rows: w.Rows})
	}
	for _, one := range by {
		if h.seesLink(sees, one.Link) {
			out.Links = append(out.Links, *one)
		}
	}
	slices.SortFunc(out.Links, func(a, b client.LinkAccounts) int { return strings.Compare(a.Link, b.Link) })
	c.JSON(http.StatusOK, out)
}

// fewer keeps of what waited for a link the most in each step of time.
func fewer(all []records.Waiting, step time.Duration) (out []records.Waiting) {
	for _, w := range all {
		if n := len(out); n > 0 && out[n-1].Link == w.Link && step > 0 &&
			out[n-1].At.Truncate(step).Equal(w.At.Truncate(step)) {
			if w.Rows > out[n-1].Rows {
				out[n-1] = w
			}
			continue
		}
		out = append(out, w)
	}
	return out
}

// linkNames returns the names of the present links.
func (h handlers) linkNames() (out []string) {
	for _, s := range h.LinkStates() {
		out = append(out, s.Link)
	}
	return out
}

// seesLink: what comes from a gateway is for whoever sees all of it, all else for whoever
// sees everything.
func (h handlers) seesLink(sees access.Scope, link string) bool {
	gateway, from := strings.CutPrefix(link, "from ")
	return h.seesAll(sees) || from && sees.Covers(gateway)
}

func outageOf(o records.Outage) client.Outage {
	out := client.Outage{
		ID:       o.ID,
		Began:    o.Began,
		Ended:    pointer(o.Ended),
		Reason:   o.Reason,
		Waited:   o.Waited,
		Oldest:   pointer(o.Oldest),
		CaughtUp: pointer(o.CaughtUp),
	}
	if !o.Oldest.IsZero() && !o.CaughtUp.IsZero() {
		out.LongestMS = o.CaughtUp.Sub(o.Oldest).Milliseconds()
	}
	return out
}
