package watch

import (
	"fmt"
	"slices"
	"strings"

	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/payload"
)

// Proposal is lines of a configuration.
type Proposal struct {
	Messages  string   // items of a source's messages:
	Sparkplug bool     // the source needs sparkplug: {} as well
	Rules     string   // items of gateway.series
	Skipped   []string // topics that nothing was proposed for, with the reason
}

// Propose writes the lines that collect topics. Topics of the same shape share one.
func Propose(topics []Topic) (out Proposal) {
	var messages, rules strings.Builder
	all := map[string]rule{}
	var selectors []string
	for _, g := range groups(topics) {
		guess := g[0].Guess
		switch guess.Form {
		case "sparkplug":
			out.Sparkplug = true
			continue
		case "bytes":
			for _, t := range g {
				out.Skipped = append(out.Skipped, t.Name+": "+t.Guess.Note)
			}
			continue
		}
		if len(guess.Values) == 0 {
			for _, t := range g {
				out.Skipped = append(out.Skipped, t.Name+": nothing in its payload is a value")
			}
			continue
		}
		pattern, station, quantity := patternOf(g)
		messages.WriteString(lines(pattern, station, quantity, g))
		for _, t := range g {
			for _, v := range t.Guess.Values {
				r := ruleOf(v, station, quantity, t)
				if before, there := all[r.selector]; there {
					r = before.with(r)
				} else {
					selectors = append(selectors, r.selector)
				}
				all[r.selector] = r
			}
		}
	}
	for _, selector := range selectors {
		rules.WriteString(all[selector].String())
	}
	out.Messages, out.Rules = messages.String(), rules.String()
	return out
}

// groups are topics with as many levels and the same first one, whose payloads the same lines
// read.
func groups(topics []Topic) (out [][]Topic) {
	index := map[string]int{}
	for _, t := range topics {
		levels := strings.Split(t.Name, "/")
		key := fmt.Sprint(len(levels), "|", levels[0], "|", t.Guess.Signature())
		i, ok := index[key]
		if !ok {
			i = len(out)
			index[key], out = i, append(out, nil)
		}
		out[i] = append(out[i], t)
	}
	return out
}

// patternOf returns the topic with a {name} for each level that differs, and what station and
// quantity are called. Quantity is empty where the payload says it.
func patternOf(g []Topic) (pattern, station, quantity string) {
	levels := strings.Split(g[0].Name, "/")
	differs := make([]bool, len(levels))
	for _, t := range g[1:] {
		for i, l := range strings.Split(t.Name, "/") {
			differs[i] = differs[i] || l != levels[i]
		}
	}
	single := g[0].Guess.Form == "number"
	var names []string
	for i, l := range levels {
		last := i == len(levels)-1
		switch {
		case differs[i] && last && single:
			levels[i], quantity = "{quantity}", "{quantity}"
		case differs[i]:
			name := "station"
			if len(names) > 0 {
				name = fmt.Sprintf("part_%d", len(names)+1)
			}
			names = append(names, "{"+name+"}")
			levels[i] = "{" + name + "}"
		case last && single && len(levels) > 1:
			quantity = clean(l)
		}
	}
	if station = strings.Join(names, "/"); station == "" { // one station, called as its topic
		n := len(levels)
		if quantity != "" {
			n--
		}
		var fixed []string
		for _, l := range levels[:n] {
			if l != "" {
				fixed = append(fixed, clean(l))
			}
		}
		station = strings.Join(fixed[max(0, len(fixed)-2):], "/")
	}
	if single && quantity == "" {
		quantity = "value"
	}
	if station == "" {
		station = "station"
	}
	return strings.Join(levels, "/"), station, quantity
}

func clean(level string) string {
	out := series.CleanLevel(level)
	if series.CheckLevel(out) != nil {
		return "x"
	}
	return out
}

// lines returns the configuration lines of one entry of messages.
func lines(pattern, station, quantity string, g []Topic) string {
	guess := g[0].Guess
	var out strings.Builder
	fmt.Fprintf(&out, "- topic: %q\n  payload: %s\n", pattern, guess.Form)
	if guess.Doubt != "" {
		fmt.Fprintf(&out, "  # likely, but %s\n", guess.Doubt)
	}
	if strings.HasPrefix(guess.Records, "/") {
		fmt.Fprintf(&out, "  records: %q\n", guess.Records)
	}
	switch guess.Device {
	case "":
	case "{n}":
		station += "/{n}"
	default:
		fmt.Fprintf(&out, "  names: { device: %q }\n", guess.Device)
		station += "/{device}"
	}
	if guess.Time != "" {
		fmt.Fprintf(&out, "  time: %q\n", guess.Time)
	}
	for _, key := range guess.Keys {
		fmt.Fprintf(&out, "  %s: %s\n", key.Key, key.Value)
	}
	if guess.Form == "number" {
		for _, key := range guess.Values[0].Keys {
			fmt.Fprintf(&out, "  %s: %s\n", key.Key, key.Value)
		}
		fmt.Fprintf(&out, "  series: %q\n", station+"/"+quantity)
		return out.String()
	}
	out.WriteString("  values:\n")
	if strings.HasPrefix(guess.Form, "senml") {
		for _, name := range senmlNames(g) {
			fmt.Fprintf(&out, "    - { name: %q, series: %q }\n", name, senmlSeries(name, station))
		}
		return out.String()
	}
	for i, v := range guess.Values {
		at, name := "at", named(guess, i)
		if v.ItemsOf {
			at, name = "items_of", name+"_{n}"
		}
		fmt.Fprintf(&out, "    - { %s: %q, series: %q", at, v.At, station+"/"+name)
		for _, key := range v.Keys {
			fmt.Fprintf(&out, ", %s: %s", key.Key, key.Value)
		}
		out.WriteString(" }\n")
	}
	return out.String()
}

// named returns a value's name: its own, with the keys above it where another value has
// the same one.
func named(guess payload.Guess, i int) string {
	own := guess.Values[i]
	for k, other := range guess.Values {
		if k != i && other.Name == own.Name {
			return clean(strings.ToLower(strings.Trim(strings.ReplaceAll(own.At, "/", "_"), "_")))
		}
	}
	return own.Name
}

// senmlNames returns the names of SenML's records, with a {name} for each part that differs.
func senmlNames(g []Topic) (out []string) {
	for _, t := range g {
		for _, v := range t.Guess.Values {
			name := v.At
			if at := strings.LastIndexAny(name, "/:; "); at > 0 {
				name = "{device}" + name[strings.IndexAny(name, "/:; "):at+1] + "{quantity}"
			}
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

func senmlSeries(name, station string) string {
	if strings.HasPrefix(name, "{device}") {
		return "{device}/{quantity}"
	}
	return station + "/" + clean(name)
}
