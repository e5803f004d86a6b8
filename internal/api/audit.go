package api

import (
	"encoding/csv"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/access"
	"nexocumula/internal/plain"
)

const mostAudited = 10_000 // entries in one answer

func (h handlers) audit(c *gin.Context) {
	v, ok := names{"who", "action", "outcome", "caller", "from", "to", "cursor", "limit", "format"}.query(c)
	if !ok {
		return
	}
	asked := access.Asked{Who: v.Get("who"), Action: v.Get("action"), Outcome: v.Get("outcome"), From: v.Get("caller")}
	var err error
	for name, into := range map[string]*time.Time{"from": &asked.Since, "to": &asked.Until} {
		if text := v.Get(name); text != "" && err == nil {
			if *into, err = time.Parse(time.RFC3339, text); err != nil {
				err = fmt.Errorf("%s %q is no time; write one such as 2026-03-01T08:00:00Z", name, text)
			}
		}
	}
	if err == nil {
		asked.Before, err = whole(v, "cursor", 0, 1, math.MaxInt64)
	}
	var most uint64
	if err == nil {
		most, err = whole(v, "limit", 100, 1, mostAudited)
	}
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	form, err := formOf(c)
	if err != nil || form == asArrow {
		fail(c, http.StatusNotAcceptable, "format", "use json or csv")
		return
	}
	asked.Most = int(most)
	found, err := h.Gate.Book.Audit(asked)
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	if form == asCSV {
		auditCSV(c, found)
		return
	}
	out := client.Audit{Entries: make([]client.AuditEntry, len(found))}
	for i, e := range found {
		out.Entries[i] = client.AuditEntry(e)
	}
	if len(found) == asked.Most {
		out.Next = cursorOf(found[len(found)-1].ID)
	}
	c.JSON(http.StatusOK, out)
}

// auditCSV writes RFC 4180.
func auditCSV(c *gin.Context, entries []access.Entry) {
	c.Header("Content-Type", typeCSV)
	w := csv.NewWriter(c.Writer)
	_ = w.Write([]string{
		"id", "time", "who", "kind", "from", "action", "target", "outcome", "reason", "times", "before", "after",
		"previous", "sum",
	})
	for _, e := range entries {
		_ = w.Write([]string{
			strconv.FormatUint(e.ID, 10), e.Time.Format(time.RFC3339Nano), plain.Cell(e.Who), e.Kind, plain.Cell(e.From), e.Action, plain.Cell(e.Target), e.Outcome, plain.Cell(e.Reason),
			strconv.Itoa(e.Times), string(e.Before), string(e.After), e.Previous, e.Sum,
		})
	}
	w.Flush() // who does not read any more went away
}

func (h handlers) verifyAudit(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	found, err := h.Gate.Book.Verify()
	if err != nil {
		fail(c, http.StatusInternalServerError, "store", err.Error())
		return
	}
	c.JSON(http.StatusOK, client.AuditVerified{
		Entries:  found.Entries,
		First:    found.First,
		Last:     found.Last,
		Sum:      found.Sum,
		Problems: append([]string{}, found.Problems...),
	})
}
