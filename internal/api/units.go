package api

import (
	"maps"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/unit"
)

// units answers the units of the series the caller may see.
func (h handlers) units(c *gin.Context) {
	if _, ok := (names{}).query(c); !ok {
		return
	}
	used := map[string]bool{}
	for _, s := range h.view(c).List(series.Everything()) {
		if s.Unit != "" {
			used[s.Unit] = true
		}
	}
	out := client.Units{Units: []client.Unit{}}
	for _, symbol := range slices.Sorted(maps.Keys(used)) {
		one := client.Unit{Symbol: symbol, Written: unit.Written(symbol), To: []client.Conversion{}}
		for _, other := range unit.Like(symbol) {
			if by, err := unit.Convert(symbol, other); err == nil {
				one.To = append(one.To, client.Conversion{
					Symbol:  other,
					Written: unit.Written(other),
					Scale:   by.Scale,
					Offset:  by.Offset,
				})
			}
		}
		out.Units = append(out.Units, one)
	}
	c.JSON(http.StatusOK, out)
}
