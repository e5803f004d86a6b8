package api

import (
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/window"
	"nexocumula/internal/query"
)

var excursionParameters = names{"select", "label*", "from", "to", "last", "range", "zone"}

// excursions answers with the events of a time range: values outside their normal range, silences, outages, and rejects
// of a rule that had refused nothing before.
func (h handlers) excursions(c *gin.Context) {
	v, ok := excursionParameters.query(c)
	if !ok {
		return
	}
	q := query.Excursions{Now: h.now()}
	var err error
	if q.Select, err = readSelected(v); err == nil {
		q.Zone, err = readZone(url.Values{"zone": {zoneOr(v.Get("zone"), h.Zone)}})
	}
	if err == nil {
		q.Range, err = readNight(v, h.now(), q.Zone)
	}
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	out := client.Excursions{
		From:       q.Range.From.UTC(),
		To:         q.Range.To.UTC(),
		Excursions: []client.Excursion{},
		Silent:     []client.Silence{},
		Outages:    []client.NamedOutage{},
	}
	if len(h.view(c).List(q.Select)) > 0 || v.Get("select") != "" {
		found, err := q.Run(c.Request.Context(), h.source(c))
		if err != nil {
			refused(c, err)
			return
		}
		for _, s := range found {
			addExcursed(&out, s)
		}
	}
	slices.SortStableFunc(out.Excursions, func(a, b client.Excursion) int { return a.From.Compare(b.From) })
	slices.SortStableFunc(out.Silent, func(a, b client.Silence) int { return a.From.Compare(b.From) })
	if err := h.addLinks(c, &out); err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	c.JSON(http.StatusOK, out)
}

func zoneOr(asked, own string) string {
	if asked != "" {
		return asked
	}
	return own
}

// readNight reads a range; without one it is since 18:00 of the day before by the clocks of a zone.
func readNight(v url.Values, now time.Time, zone *time.Location) (window.Range, error) {
	if v.Get("from")+v.Get("to")+v.Get("last")+v.Get("range") != "" {
		return readRange(v, now, zone)
	}
	year, month, day := now.In(zone).Date()
	from, err := window.ParseTime(time.Date(year, month, day-1, 0, 0, 0, 0, time.UTC).Format(time.DateOnly)+" 18:00",
		zone)
	return window.Range{From: from, To: now}, err
}

func addExcursed(out *client.Excursions, s query.Excursed) {
	inner, outer := s.Normal.Ranges()
	for _, e := range s.Excursions {
		one := client.Excursion{
			Path: string(s.Path), Unit: s.Unit, From: at(e.From), To: at(e.To), Side: "low", Beyond: "inner", Extreme: client.Number(e.Extreme), ExtremeAt: at(e.At), Over: e.Over,
			Limit: client.Number(inner.Low), WidthMS: s.Width.Milliseconds(),
		}
		if e.High {
			one.Side, one.Limit = "high", client.Number(inner.High)
		}
		if e.Outer {
			one.Beyond, one.Limit = "outer", client.Number(outer.Low)
			if e.High {
				one.Limit = client.Number(outer.High)
			}
		}
		out.Excursions = append(out.Excursions, one)
	}
	for _, e := range s.Silences {
		out.Silent = append(out.Silent, client.Silence{
			Path: string(s.Path),
			From: at(e.From),
			To:   at(e.To),
			Over: e.Over,
		})
	}
}

// addLinks adds the outages of links, and the rules that refused something and had refused nothing in the week before.
func (h handlers) addLinks(c *gin.Context, out *client.Excursions) error {
	sees := callerOf(c).Scope
	outages, err := h.Records.Links.Outages(out.From, out.To)
	if err != nil {
		return err
	}
	for _, o := range outages {
		if h.seesLink(sees, o.Link) {
			out.Outages = append(out.Outages, client.NamedOutage{
				ID:     o.ID,
				Link:   o.Link,
				Began:  o.Began.UTC(),
				Ended:  pointer(o.Ended),
				Reason: o.Reason,
			})
		}
	}
	if !h.seesAll(sees) {
		return nil
	}
	out.Rejects = []client.RejectGroup{}
	counts, err := h.Records.Rejects.Counts(out.From.Add(-7*24*time.Hour), out.To)
	if err != nil {
		return err
	}
	type group struct{ source, rule string }
	groups, before, order := map[group]*client.RejectGroup{}, map[group]bool{}, []group(nil)
	for _, n := range counts {
		g := group{n.Source, n.Rule}
		if n.Hour.Add(time.Hour).Before(out.From) {
			before[g] = true
			continue
		}
		if groups[g] == nil {
			groups[g] = &client.RejectGroup{Source: n.Source, Rule: n.Rule, FirstHour: n.Hour}
			order = append(order, g)
		}
		groups[g].Count += n.Count
		groups[g].LastHour = n.Hour
	}
	for _, g := range order {
		if !before[g] {
			out.Rejects = append(out.Rejects, *groups[g])
		}
	}
	slices.SortFunc(out.Rejects,
		func(a, b client.RejectGroup) int { return strings.Compare(a.Source+a.Rule, b.Source+b.Rule) })
	return nil
}
