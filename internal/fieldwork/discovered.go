package fieldwork

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nexocumula/client"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/gateway"
	"nexocumula/internal/gateway/pipeline"
)

// Discovered returns the series that a gateway found and that no rule names yet, of those that a selector
// names, and the rules that would name them as they were found.
func Discovered(g *gateway.Gateway, of series.Selector) client.Discovered {
	out := client.Discovered{Rules: []client.DiscoveryRule{}, Series: []client.DiscoveredSeries{}}
	var chosen []pipeline.Found
	for _, rule := range g.Pipe.Discovered() {
		out.Rules = append(out.Rules, client.DiscoveryRule{
			Select: rule.Select.String(),
			Found:  len(rule.Found),
			Most:   rule.Most,
		})
		for _, s := range rule.Found {
			if !of.Match(s.Path) {
				continue
			}
			one := client.DiscoveredSeries{
				Path: string(s.Path), Kind: string(s.Kind), Unit: s.Unit, States: s.States.Map(), Value: client.Number(s.LastValue), State: s.States.Name(s.LastValue),
				FirstSeen: time.Unix(0, s.FirstSeen).UTC(), LastSeen: time.Unix(0, s.LastTime).UTC(),
			}
			switch {
			case s.Named:
				one.UnitFrom = "name"
			case s.Unit != "":
				one.UnitFrom = "sender"
			}
			out.Series = append(out.Series, one)
			chosen = append(chosen, s)
		}
	}
	out.Lines = rulesOf(chosen)
	return out
}

// rulesOf writes rules that say what series were found to be. Series of the same quantity that are
// alike share one.
func rulesOf(found []pipeline.Found) string {
	alike := map[string][]pipeline.Found{} // by what a rule says, and the quantity
	shapes := map[string]map[string]bool{} // by quantity, what rules say
	var order []string
	for _, s := range found {
		levels := levelsOf(s)
		quantity := fmt.Sprint(len(levels), levels[len(levels)-1])
		key := quantity + " " + says(&s.Definition)
		if alike[key] == nil {
			order = append(order, key)
		}
		alike[key] = append(alike[key], s)
		if shapes[quantity] == nil {
			shapes[quantity] = map[string]bool{}
		}
		shapes[quantity][key] = true
	}
	var out strings.Builder
	for _, key := range order {
		of := alike[key]
		levels := levelsOf(of[0])
		if len(of) > 1 && len(shapes[fmt.Sprint(len(levels), levels[len(levels)-1])]) == 1 {
			fmt.Fprintf(&out, "- { select: %q, %s }\n", common(of), says(&of[0].Definition))
			continue
		}
		for _, s := range of {
			fmt.Fprintf(&out, "- { select: %q, %s }\n", s.Path, says(&s.Definition))
		}
	}
	return out.String()
}

// common returns the selector with a + for each level that differs.
func common(of []pipeline.Found) string {
	levels := levelsOf(of[0])
	for _, s := range of[1:] {
		for i, level := range levelsOf(s) {
			if level != levels[i] {
				levels[i] = "+"
			}
		}
	}
	return strings.Join(levels, "/")
}

// says returns the configuration keys of a series' rule.
func says(d *series.Definition) string {
	keys := []string{fmt.Sprintf("kind: %s", d.Kind)}
	if d.Unit != "" {
		keys = append(keys, fmt.Sprintf("unit: %q", d.Unit))
	}
	if states := d.States.Map(); len(states) > 0 {
		var pairs []string
		for _, name := range slices.SortedFunc(maps.Keys(states),
			func(a, b string) int { return int(states[a] - states[b]) }) {
			pairs = append(pairs, fmt.Sprintf("%q: %v", name, states[name]))
		}
		keys = append(keys, "states: { "+strings.Join(pairs, ", ")+" }")
	}
	keys = append(keys, "fresh_for: "+span.Format(d.FreshFor))
	if d.Tiers != (series.Tiers{}) {
		keys = append(keys, "tiers: ["+strings.Join(d.Tiers.Texts(), ", ")+"]")
	}
	return strings.Join(keys, ", ")
}

func levelsOf(s pipeline.Found) []string { return strings.Split(string(s.Path), "/") }
