package query

import (
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

const (
	mostCompared = 10_000 // a hint is not worth more time
	mostNear     = 3
)

// nearest names up to three series whose paths are spelled most like the selector's:
// below its first levels, if there are any, else anywhere.
func nearest(st Reader, selector series.Selector) string {
	levels := selector.Levels()
	var all []engine.Series
	for keep := len(levels) - 1; keep >= 0 && len(all) == 0; keep-- {
		wider, err := series.ParseSelector(strings.Join(append(slices.Clone(levels[:keep]), "#"), "/"))
		if err == nil {
			all = st.List(wider)
		}
	}
	all = all[:min(len(all), mostCompared)]
	type near struct {
		text     string
		distance int
	}
	text := strings.Join(levels, "/")
	found := make([]near, len(all))
	for i, s := range all {
		found[i] = near{string(s.Path), levenshtein.ComputeDistance(text, string(s.Path))}
		if selector.Labels() != "" && s.Labels != "" {
			found[i].text += " with " + string(s.Labels)
		}
	}
	slices.SortStableFunc(found, func(a, b near) int { return a.distance - b.distance })
	var names []string
	for _, n := range found[:min(mostNear, len(found))] {
		names = append(names, n.text)
	}
	return strings.Join(names, ", ")
}
