package api

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/access"
	"nexocumula/internal/central"
	"nexocumula/internal/core/series"
	"nexocumula/internal/wire"
)

// liveness answers those who have not logged in, such as a load balancer or a watchdog: ready, or only alive when the
// store has a trouble.
func (h handlers) liveness(c *gin.Context) {
	if len(h.Store.Troubles()) > 0 {
		c.AbortWithStatusJSON(http.StatusServiceUnavailable, client.Liveness{Status: "alive"})
		return
	}
	c.AbortWithStatusJSON(http.StatusOK, client.Liveness{Status: "ready"})
}

func (h handlers) health(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	sees := callerOf(c).Scope
	if !h.seesAll(sees) {
		c.JSON(http.StatusOK, h.partHealth(c, sees))
		return
	}
	c.JSON(http.StatusOK, h.wholeHealth())
}

// wholeHealth returns how the service stands, for somebody who may see all of it.
func (h handlers) wholeHealth() client.Health {
	out := client.Health{
		Status: "ok", Troubles: []string{}, Version: h.Version, Started: h.Started.UTC(), Site: h.site(), Zone: h.Zone, Zones: h.Zones(),
		Series: h.Store.Count(), StoreCounts: &client.StoreCounts{
			Unsealed: h.Store.UnsealedRows(),
			Damaged:  h.Store.Damaged(),
			Dropped:  h.Dropped(),
		},
	}
	trouble := func(format string, args ...any) {
		out.Status = "trouble"
		out.Troubles = append(out.Troubles, fmt.Sprintf(format, args...))
	}
	h.storeHealth(out.Damaged, trouble)
	if h.Certificates != nil {
		for _, text := range h.Certificates() {
			trouble("%s", text)
		}
	}
	if h.Space != nil {
		for _, text := range h.Space() {
			trouble("store: %s", text)
		}
	}
	if h.Backup != nil {
		if state, text, wanted := h.Backup(); wanted {
			if out.Backup = &state; text != "" {
				trouble("backup: %s", text)
			}
		}
	}
	if err := h.Gate.Book.Trouble(); err != nil {
		trouble("audit: %v", err)
	}
	if h.Central != nil {
		accepted := []string{}
		for _, l := range h.Central.Links() {
			accepted = append(accepted, l.Gateway)
			if !l.Up(h.now()) {
				trouble("gateway %s is silent, last heard %s", l.Gateway, orNever(l.HeardAt))
			}
			if l.Twin != "" {
				trouble("gateway %s: %s", l.Gateway, l.Twin)
			}
		}
		slices.Sort(accepted)
		out.Central = &client.CentralHealth{Gateways: accepted}
	}
	for _, u := range h.Uplinks() {
		if !u.Up {
			trouble("uplink %s is down, about %d summaries wait: %s", u.Name, u.Backlog.Rows, u.LastError)
		}
		if u.Twin != "" {
			trouble("uplink %s: %s", u.Name, u.Twin)
		}
		for _, r := range u.Refused {
			trouble("uplink %s: the central refuses %s, %d summaries wait: %s", u.Name, r.Series, r.Rows, r.Reason)
		}
		if u.RefusedRecords > 0 {
			trouble("uplink %s: the central refused %d records, such as notes or gaps, since the start; they stay here, and the log says why",
				u.Name, u.RefusedRecords)
		}
		if u.Backlog.GivenUp > 0 {
			trouble("uplink %s: %d summaries were given up before they could be sent, as give_up_unsent_after has it",
				u.Name, u.Backlog.GivenUp)
		}
	}
	if h.Gateway != nil {
		out.Gateway = h.gatewayHealth(trouble)
	}
	return out
}

// partHealth returns how the service stands for somebody who may see a part of it: nothing in it
// is of what he may not see.
func (h handlers) partHealth(c *gin.Context, sees access.Scope) client.Health {
	seen := h.view(c).List(series.Everything())
	out := client.Health{
		Status: "ok", Troubles: []string{}, Version: h.Version, Started: h.Started.UTC(), Zone: h.Zone, Zones: map[string]string{}, Limited: true, Series: len(seen),
	}
	if site := h.site(); h.Gateway == nil || sees.Touches(site) {
		out.Site = site
	}
	zones := h.Zones()
	for _, s := range seen {
		site, _, _ := strings.Cut(string(s.Path), "/")
		if zone, ok := zones[site]; ok {
			out.Zones[site] = zone
		}
	}
	if h.Central != nil {
		for _, l := range h.links(sees) {
			if !l.Up(h.now()) {
				out.Status = "trouble"
				out.Troubles = append(out.Troubles,
					fmt.Sprintf("gateway %s is silent, last heard %s", l.Gateway, orNever(l.HeardAt)))
			}
		}
	}
	return out
}

// site returns the site of the service.
func (h handlers) site() string {
	if h.Gateway != nil {
		return h.Gateway.Site
	}
	return "central"
}

// links returns the links of gateways all of whose series the caller may see.
func (h handlers) links(sees access.Scope) (out []central.Link) {
	for _, l := range h.Central.Links() {
		if sees.Covers(l.Gateway) {
			out = append(out, l)
		}
	}
	return out
}

func (h handlers) gatewayHealth(trouble func(string, ...any)) *client.GatewayHealth {
	out := &client.GatewayHealth{
		Site: h.Gateway.Site, Accepted: h.Gateway.Pipe.Accepted(), Rejected: h.Gateway.Pipe.Rejected(), Filling: h.Gateway.Pipe.Filling(), Sources: []client.Source{},
	}
	for _, s := range h.Gateway.Sources() {
		if !s.Up {
			trouble("source %s is down: %s", s.Name, s.LastError)
		}
		for _, text := range s.Absent {
			trouble("source %s: %s", s.Name, text)
		}
		faults := make([]client.Fault, len(s.Faults))
		for i, f := range s.Faults {
			faults[i] = client.Fault{Place: f.Place, Message: f.Text, Count: f.Count, LastAt: f.LastAt.UTC()}
		}
		out.Sources = append(out.Sources, client.Source{
			Name: s.Name, Form: s.Form, Address: s.Address, Up: s.Up, Silent: pointer(s.Silent), Messages: s.Messages, Acked: s.Acked, Readings: s.Readings,
			Line: lineOf(s.Line), Rejects: s.Rejects, Ignored: s.Ignored, Errors: s.Errors, LastAt: pointer(s.LastAt), LastError: s.LastError, Absent: append([]string{},
				s.Absent...), Faults: faults,
		})
	}
	return out
}

// storeHealth reports what is wrong with the store, or with the clock.
func (h handlers) storeHealth(damaged uint64, trouble func(string, ...any)) {
	missing, err := h.Store.Missing()
	if err != nil {
		trouble("store: %v", err)
	}
	for _, text := range missing {
		trouble("store: %s", text)
	}
	for _, text := range h.Store.SetAside() {
		trouble("store: %s", text)
	}
	if n := damaged - min(damaged, uint64(len(missing))); n > 0 {
		trouble("store: %d damaged rows are set aside", n)
	}
	for _, text := range h.Store.Troubles() {
		trouble("store: %s", text)
	}
	if doubt := h.Store.Judge().Doubt(); doubt != "" {
		trouble("clock: %s", doubt)
	}
}

// now returns the time of day.
func (h handlers) now() time.Time { return h.Store.Judge().Now() }

// below is who sends to a central.
func below(all []wire.Below) []client.Below {
	out := []client.Below{}
	for _, b := range all {
		out = append(out, client.Below{Name: b.Name, Up: b.Up, Below: below(b.Below)})
	}
	return out
}

func orNever(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.UTC().Format(time.RFC3339)
}

func (h handlers) uplinks(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	sees := callerOf(c).Scope
	out := client.Uplinks{Sending: []client.Sending{}, Receiving: []client.Receiving{}}
	for _, u := range h.sending(sees) {
		pace := h.Pace("to " + u.Name)
		one := client.Sending{
			Name: u.Name, Address: u.Address, Up: u.Up, BacklogRows: u.Backlog.Rows, BacklogSince: pointer(u.Backlog.Oldest), GivenUp: u.Backlog.GivenUp,
			BacklogRecords: u.Backlog.Records, RefusedRecords: u.RefusedRecords,
			Rate:       pace.Rate,
			CaughtUpAt: pointer(pace.CaughtUp),
			Arrived:    pace.Arrived,
			AckedRows:  u.Acked.Rows,
			AckedAt:    pointer(u.Acked.At),
			Failures:   u.Failures,
			Refills:    u.Refills,
			LastError:  u.LastError,
			Twin:       u.Twin,
			Refused:    []client.RefusedSeries{},

			BacklogAsked: u.Backlog.Asked,
			Above:        append([]string{}, u.Above...),
			Reconciled:   u.Reconciled,
			BytesToday:   u.Used.Today, BytesMonth: u.Used.InMonth, BytesLeft: u.BytesLeft,
		}
		for _, r := range u.Refused {
			one.Refused = append(one.Refused, client.RefusedSeries{
				Path:   string(r.Series),
				Reason: r.Reason,
				Since:  r.Since.UTC(),
				Rows:   r.Rows,
			})
		}
		out.Sending = append(out.Sending, one)
	}
	if h.Central != nil {
		for _, l := range h.links(sees) {
			pace := h.Pace("from " + l.Gateway)
			out.Receiving = append(out.Receiving, client.Receiving{
				Rate: pace.Rate, CaughtUpAt: pointer(pace.CaughtUp), Arrived: pace.Arrived,
				Gateway: l.Gateway, Console: l.Status.Console, Up: l.Up(h.now()), HeardAt: pointer(l.HeardAt), Batches: l.Batches, StoredRows: l.Rows, StoredAt: pointer(l.StoredAt),
				BacklogRows: l.Status.BacklogRows, BacklogSince: pointer(l.Status.BacklogSince), Accepted: l.Status.Accepted, Rejected: l.Status.Rejected,
				Refused: l.Refused, LastError: l.LastError, Twin: l.Twin, Below: below(l.Status.Below),
			})
		}
		slices.SortFunc(out.Receiving, func(a, b client.Receiving) int { return strings.Compare(a.Gateway, b.Gateway) })
	}
	c.JSON(http.StatusOK, out)
}

// sending returns the uplinks, for whoever may see all that they send.
func (h handlers) sending(sees access.Scope) []Uplink {
	if !h.seesAll(sees) {
		return nil
	}
	return h.Uplinks()
}
