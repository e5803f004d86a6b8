package api

import (
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/span"
	"nexocumula/internal/query"
)

var momentParameters = names{"select", "label*", "at", "zone", "how", "within"}

func (h handlers) moment(c *gin.Context) {
	v, ok := momentParameters.query(c)
	if !ok {
		return
	}
	q, err := readMoment(v)
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	found, unknown, err := q.Run(c.Request.Context(), h.source(c))
	if err != nil {
		refused(c, err)
		return
	}
	out := client.Moment{
		At:      q.At.UTC(),
		How:     string(q.How),
		Values:  make([]client.Then, len(found)),
		Unknown: append([]string{}, unknown...),
	}
	for i, f := range found {
		out.Values[i] = client.Then{
			Path: string(f.Path), Kind: string(f.Kind), Unit: f.Unit, Time: time.Unix(0, f.Time).UTC(),
			Value: client.Number(f.Value), State: f.States.Name(f.Value), Tier: f.Tier.String(), Sure: f.Sure,
		}
	}
	c.JSON(http.StatusOK, out)
}

func readMoment(v url.Values) (q query.Moment, err error) {
	if q.Select, err = readSelector(v); err != nil {
		return q, err
	}
	if v.Get("at") == "" {
		return q, fmt.Errorf("at is missing; name the moment, such as at=2026-03-01T08:00:00Z")
	}
	zone, err := readZone(v)
	if err != nil {
		return q, err
	}
	if q.At, err = readTime("at", v.Get("at"), zone); err != nil {
		return q, err
	}
	if q.How, err = query.ParseHow(v.Get("how")); err != nil {
		return q, err
	}
	if text := v.Get("within"); text != "" {
		if q.Within, err = span.Parse(text); err != nil {
			return q, fmt.Errorf("within: %w", err)
		}
	}
	return q, nil
}
