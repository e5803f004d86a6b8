package api

import (
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/span"
	"nexocumula/internal/query"
)

func (h handlers) moment(c *gin.Context) {
	q, err := readMoment(c)
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	found, err := q.Run(c.Request.Context(), h.source())
	if err != nil {
		refused(c, err)
		return
	}
	out := client.Moment{At: q.At.UTC(), How: string(q.How), Values: make([]client.Then, len(found))}
	for i, f := range found {
		out.Values[i] = client.Then{
			Path: string(f.Path), Kind: string(f.Kind), Unit: f.Unit, Time: time.Unix(0, f.Time).UTC(),
			Value: client.Number(f.Value), Tier: f.Tier.String(), Sure: f.Sure,
		}
	}
	c.JSON(http.StatusOK, out)
}

func readMoment(c *gin.Context) (q query.Moment, err error) {
	v := c.Request.URL.Query()
	if q.Select, err = readSelector(v); err != nil {
		return q, err
	}
	if v.Get("at") == "" {
		return q, fmt.Errorf("at is missing; name the moment, such as at=2026-03-01T08:00:00Z")
	}
	if q.At, err = readTime("at", v.Get("at")); err != nil {
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
