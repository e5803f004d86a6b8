package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/core/series"
	"nexocumula/internal/fieldwork"
)

// discovered are the series that were found and that no rule names.
func (h handlers) discovered(c *gin.Context) {
	g, ok := h.collecting(c)
	if !ok {
		return
	}
	v, ok := names{"select"}.query(c)
	if !ok {
		return
	}
	text := v.Get("select")
	if text == "" {
		text = "#"
	}
	selector, err := series.ParseSelector(text)
	if err != nil {
		fail(c, http.StatusBadRequest, "select", err.Error())
		return
	}
	c.JSON(http.StatusOK, fieldwork.Discovered(g, selector))
}
