package watch

import (
	"fmt"
	"slices"
	"strings"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/unit"
	"nexocumula/internal/gateway/payload"
)

// rule is one of a gateway's series: rules, as far as payloads show what belongs into it.
type rule struct {
	selector string
	truth    bool     // true and false
	states   []string // texts that came
	grows    bool
	unit     string
}

// ruleOf returns the rule for a value.
func ruleOf(v payload.Guessed, station, quantity string, t Topic) (r rule) {
	name := v.Name
	if t.Guess.Form == "number" {
		if name = quantity; strings.HasPrefix(name, "{") {
			name = clean(t.Name[strings.LastIndexByte(t.Name, '/')+1:])
		}
	}
	if strings.HasPrefix(t.Guess.Form, "senml") && strings.ContainsAny(v.At, "/:; ") {
		station = "{device}"
	}
	if t.Guess.Device != "" {
		station += "/{device}"
	}
	if v.ItemsOf {
		name = "+"
	}
	r = rule{
		selector: strings.Repeat("+/", 1+len(strings.Split(station, "/"))) + name,
		truth:    v.Truth,
		unit:     unitOf(v.Unit),
	}
	if v.State {
		r.states = append(slices.Clone(t.Notice.States[v.At]), v.Sample)
	}
	r.grows = slices.Contains(t.Notice.Grows, v.At)
	return r
}

// with joins two rules of the same series.
func (r rule) with(other rule) rule {
	r.truth = r.truth || other.truth
	r.states = append(r.states, other.states...)
	r.grows = r.grows && other.grows
	if r.unit == "" {
		r.unit = other.unit
	}
	return r
}

// String returns the rule as a line, or "" if it says nothing.
func (r rule) String() string {
	unit := ""
	if r.unit != "" {
		unit = fmt.Sprintf(", unit: %q", r.unit)
	}
	switch {
	case r.states != nil:
		return fmt.Sprintf("- { select: %s, kind: state, states: { %s } } # and its other states\n", r.selector,
			numbered(r.states))
	case r.truth:
		return fmt.Sprintf("- { select: %s, kind: state, states: { \"false\": 0, \"true\": 1 } }\n", r.selector)
	case r.grows:
		return fmt.Sprintf("- { select: %s, kind: counter%s } # it only grew while it was watched\n", r.selector, unit)
	}
	if unit == "" {
		return ""
	}
	return fmt.Sprintf("- { select: %s%s }\n", r.selector, unit)
}

// numbered gives states their numbers: 0 to one that is at rest, 1 to one that is active.
func numbered(states []string) string {
	slices.Sort(states)
	states = slices.Compact(states)
	var taken []float64
	pairs := make([]string, len(states))
	for i, name := range states {
		number := series.StateNumber(name, taken)
		for n := 2.0; number > 1; n++ {
			if !slices.Contains(taken, n) {
				number = n
				break
			}
		}
		taken = append(taken, number)
		pairs[i] = fmt.Sprintf("%q: %v", name, number)
	}
	return strings.Join(pairs, ", ")
}

// unitOf returns the symbol of a unit as devices write it.
func unitOf(text string) string {
	if symbol := unit.OfWriting(text); symbol != "" {
		return symbol
	}
	if known, ok := map[string]string{"C": "Cel", "°": "deg", "degC": "Cel", "degrees C": "Cel"}[text]; ok {
		return known
	}
	return text
}
