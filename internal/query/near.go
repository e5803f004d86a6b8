package query

import (
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

// nearest names up to three series whose paths are spelled most like text.
func nearest(st *store.Store, text string) string {
	everything, err := series.ParseSelector("#")
	if err != nil {
		return ""
	}
	all := st.List(everything)
	if len(all) > MaxSeries {
		all = all[:MaxSeries] // a hint is not worth more time
	}
	type near struct {
		path     string
		distance int
	}
	found := make([]near, len(all))
	for i, s := range all {
		found[i] = near{string(s.Path), levenshtein.ComputeDistance(text, string(s.Path))}
	}
	slices.SortStableFunc(found, func(a, b near) int { return a.distance - b.distance })
	var names []string
	for _, n := range found[:min(3, len(found))] {
		names = append(names, n.path)
	}
	return strings.Join(names, ", ")
}
