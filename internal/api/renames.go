package api

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
)

// renameSeries gives a series, or all below a station, other paths.
func (h handlers) renameSeries(c *gin.Context) {
	in, ok := request[client.NewName](c)
	if !ok {
		return
	}
	all, err := h.renames(c, in)
	switch {
	case err != nil:
		fail(c, http.StatusBadRequest, "body", err.Error())
		return
	case len(all) == 0:
		fail(c, http.StatusNotFound, "unknown_series",
			fmt.Sprintf("no series is called %s, or is below it; nexocumula series list shows what there is", in.From))
		return
	}
	err = h.Rename(c.Request.Context(), all)
	if taken, ok := errors.AsType[*engine.Taken](err); ok {
		fail(c, http.StatusConflict, "taken", taken.Error())
		return
	}
	if err != nil {
		fail(c, http.StatusServiceUnavailable, "store", err.Error())
		return
	}
	out := client.Renamed{Series: make([]client.NewName, len(all))}
	for i, one := range all {
		out.Series[i] = client.NewName{From: string(one.Old), To: string(one.New)}
	}
	note(c, "%s is called %s: %d series", in.From, in.To, len(all))
	c.JSON(http.StatusOK, out)
}

// renames returns what becomes of each series.
func (h handlers) renames(c *gin.Context, in client.NewName) (all []records.Rename, err error) {
	from, to := strings.Split(in.From, "/"), strings.Split(in.To, "/")
	switch {
	case len(from) < 2 || len(to) < 2 || from[0] != to[0]:
		return nil, fmt.Errorf("%s cannot be called %s: name a series or a station, and another at the same site, such as stony-beck/raceway-9",
			in.From, in.To)
	case in.From == in.To || strings.HasPrefix(in.To, in.From+"/") || strings.HasPrefix(in.From, in.To+"/"):
		return nil, fmt.Errorf("%s cannot be called %s: one is below the other", in.From, in.To)
	}
	selector, err := series.ParseSelector(in.From + "/#") // which names the path itself, too
	if err != nil {
		return nil, err
	}
	for _, s := range h.view(c).List(selector) {
		renamed, err := series.ParsePath(in.To + strings.TrimPrefix(string(s.Path), in.From))
		if err != nil {
			return nil, err
		}
		all = append(all, records.Rename{Old: s.Path, New: renamed, At: h.now(), Author: callerOf(c).Name})
	}
	return all, nil
}
