package api

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/gateway"
)

// try sends a payload or registers the whole way of a source, and stores nothing.
func (h handlers) try(c *gin.Context) {
	g, ok := h.collecting(c)
	if !ok {
		return
	}
	want, ok := request[client.Try](c)
	if !ok {
		return
	}
	got, err := g.Try(c.Param("source"), want.Place, want.Raw)
	var none gateway.NoSuch
	if errors.As(err, &none) {
		fail(c, http.StatusNotFound, "source",
			fmt.Sprintf("no source that can be tried is called %q; %s", c.Param("source"), there(none.Names)))
		return
	}
	c.JSON(http.StatusOK, Trial(got))
}

func there(names []string) string {
	if len(names) == 0 {
		return "this gateway has none"
	}
	return "there is " + strings.Join(names, ", ")
}

// Trial converts a trial for the HTTP interface.
func Trial(got gateway.Trial) client.Trial {
	out := client.Trial{Readings: []client.TriedReading{}, Rejects: []client.Reject{}}
	for _, r := range got.Rejects {
		out.Rejects = append(out.Rejects, rejectOf(r))
	}
	for _, t := range got.Readings {
		one := client.TriedReading{
			Series: string(t.Reading.Path), Kind: string(t.Def.Kind), Time: at(t.Reading.Time), Raw: client.Number(t.Reading.Value), Text: t.Reading.Text, RawUnit: t.Reading.Unit,
			Calibration: string(t.Def.Calibration), Value: client.Number(t.Value), Unit: t.Def.Unit, State: t.Def.States.Name(t.Value), Rule: t.Rule, Reason: t.Reason, Windows: []client.TriedWindow{},
		}
		switch {
		case t.Rule == "":
			one.Outcome = "good"
		case len(t.Windows) > 0:
			one.Outcome = "uncertain"
		default:
			one.Outcome = "rejected"
		}
		if one.Outcome != "rejected" {
			one.Thinning = t.Def.Thinning.String()
			one.Standing = string(t.Def.Normal.Of(t.Value))
		}
		for _, w := range t.Windows {
			one.Windows = append(one.Windows, client.TriedWindow{Tier: w.Tier.String(), Start: at(w.Start)})
		}
		out.Readings = append(out.Readings, one)
	}
	return out
}
