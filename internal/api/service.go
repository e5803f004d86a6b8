package api

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
)

func (h handlers) health(c *gin.Context) {
	out := client.Health{
		Status: "ok", Troubles: []string{}, Version: h.Version, Started: h.Started.UTC(),
		Series: h.Store.Count(), Unsealed: h.Store.Unsealed(), Damaged: h.Store.Damaged(), Dropped: h.Dropped(),
	}
	trouble := func(format string, args ...any) {
		out.Status = "trouble"
		out.Troubles = append(out.Troubles, fmt.Sprintf(format, args...))
	}
	if out.Damaged > 0 {
		trouble("store: %d damaged chunks or journal rows are set aside", out.Damaged)
	}
	if h.Central != nil {
		for _, l := range h.Central.Links() {
			if !l.Up(time.Now()) {
				trouble("gateway %s is silent, last heard %s", l.Gateway, orNever(l.HeardAt))
			}
		}
		out.Central = &client.CentralHealth{Gateways: append([]string{}, h.Accept...)}
	}
	if h.Gateway != nil {
		out.Gateway = h.gatewayHealth(trouble)
	}
	c.JSON(http.StatusOK, out)
}

func (h handlers) gatewayHealth(trouble func(string, ...any)) *client.GatewayHealth {
	out := &client.GatewayHealth{
		Site: h.Gateway.Site, Accepted: h.Gateway.Pipe.Accepted(), Rejected: h.Gateway.Pipe.Rejected(), Sources: []client.Source{},
	}
	if text := h.Gateway.Pipe.Trouble(); text != "" {
		trouble("store: %s", text)
	}
	if uplinks, err := h.Gateway.Uplinks(); err == nil { // that they cannot be read is told by the store's trouble
		for _, u := range uplinks {
			if !u.Up {
				trouble("uplink %s is down, %d summaries wait: %s", u.Name, u.Backlog.Rows, u.LastError)
			}
		}
	}
	for _, s := range h.Gateway.Sources() {
		if !s.Up {
			trouble("source %s is down: %s", s.Name, s.LastError)
		}
		faults := make([]client.Fault, len(s.Faults))
		for i, f := range s.Faults {
			faults[i] = client.Fault{Place: f.Place, Message: f.Text, Count: f.Count, LastAt: f.LastAt.UTC()}
		}
		out.Sources = append(out.Sources, client.Source{
			Name: s.Name, Form: s.Form, Address: s.Address, Up: s.Up, Messages: s.Messages, Acked: s.Acked, Readings: s.Readings,
			Rejects: s.Rejects, Errors: s.Errors, LastAt: pointer(s.LastAt), LastError: s.LastError, Faults: faults,
		})
	}
	return out
}

func orNever(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.UTC().Format(time.RFC3339)
}

const maxRejects = 1000

func (h handlers) rejects(c *gin.Context) {
	limit, err := strconv.Atoi(c.DefaultQuery("limit", "50"))
	if err != nil || limit < 1 || limit > maxRejects {
		fail(c, http.StatusBadRequest, "limit", fmt.Sprintf("limit %q: use 1 to %d", c.Query("limit"), maxRejects))
		return
	}
	found, err := h.Store.Rejects(c.Query("source"), limit)
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	out := client.Rejects{Rejects: make([]client.Reject, len(found))}
	for i, r := range found {
		out.Rejects[i] = client.Reject{Time: at(r.Time), Source: r.Source, Place: r.Place, Reason: r.Reason, Raw: append([]byte{}, r.Raw...)}
	}
	c.JSON(http.StatusOK, out)
}

func (h handlers) uplinks(c *gin.Context) {
	out := client.Uplinks{Sending: []client.Sending{}, Receiving: []client.Receiving{}}
	if h.Gateway != nil {
		all, err := h.Gateway.Uplinks()
		if err != nil {
			fail(c, http.StatusInternalServerError, "store", err.Error())
			return
		}
		for _, u := range all {
			out.Sending = append(out.Sending, client.Sending{
				Name: u.Name, Address: u.Address, Up: u.Up,
				BacklogRows: u.Backlog.Rows, BacklogBatches: u.Backlog.Parcels, BacklogSince: pointer(u.Backlog.Oldest),
				AckedSeq: u.Acked, AckedRows: u.AckedRows, AckedAt: pointer(u.AckedAt),
				Failures: u.Failures, Refills: u.Refills, LastError: u.LastError,
			})
		}
	}
	if h.Central != nil {
		now := time.Now()
		for _, l := range h.Central.Links() {
			out.Receiving = append(out.Receiving, client.Receiving{
				Gateway: l.Gateway, Up: l.Up(now), HeardAt: pointer(l.HeardAt), StoredSeq: l.StoredSeq, StoredRows: l.Rows, StoredAt: pointer(l.StoredAt),
				BacklogRows: l.Status.BacklogRows, BacklogSince: pointer(l.Status.BacklogSince), Accepted: l.Status.Accepted, Rejected: l.Status.Rejected,
				Repeated: l.Repeated, Refused: l.Refused, LastError: l.LastError,
			})
		}
		slices.SortFunc(out.Receiving, func(a, b client.Receiving) int { return strings.Compare(a.Gateway, b.Gateway) })
	}
	c.JSON(http.StatusOK, out)
}
