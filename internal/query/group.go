package query

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/store/engine"
)

// Grouping says which series belong together.
type Grouping struct {
	Level int    // those with the same names up to this level of the path; 0: not by path
	Label string // those with the same value of this label; "": not by label
}

// ParseGrouping reads level:2 or label:depth; the empty text is all together.
func ParseGrouping(by string) (Grouping, error) {
	kind, value, _ := strings.Cut(by, ":")
	level, err := strconv.Atoi(value)
	switch {
	case by == "":
		return Grouping{}, nil
	case kind == "label" && value != "":
		return Grouping{Label: value}, nil
	case kind == "level" && err == nil && level >= 1:
		return Grouping{Level: level}, nil
	}
	return Grouping{}, fmt.Errorf("by %q: use level and a number, such as level:1 for the site, or label and a key, such as label:depth",
		by)
}

// String returns the text ParseGrouping reads.
func (g Grouping) String() string {
	switch {
	case g.Level > 0:
		return "level:" + strconv.Itoa(g.Level)
	case g.Label != "":
		return "label:" + g.Label
	}
	return ""
}

// of returns the name of the group of a series.
func (g Grouping) of(s engine.Series) string {
	switch {
	case g.Level > 0:
		levels := strings.Split(string(s.Path), "/")
		return strings.Join(levels[:min(g.Level, len(levels))], "/")
	case g.Label != "":
		if v, ok := s.Labels.Get(g.Label); ok {
			return g.Label + "=" + v
		}
		return "without " + g.Label
	}
	return "all"
}

// groups returns the series by the name of their group, and the names in order.
func (g Grouping) groups(found []engine.Series) (map[string][]engine.Series, []string) {
	out := map[string][]engine.Series{}
	var names []string
	for _, s := range found {
		name := g.of(s)
		if out[name] == nil {
			names = append(names, name)
		}
		out[name] = append(out[name], s)
	}
	slices.Sort(names)
	return out, names
}
