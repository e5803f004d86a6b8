package pipeline

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/unit"
	"nexocumula/internal/event"
	"nexocumula/internal/plain"
	"nexocumula/internal/store/engine"
)

// mostFoundStates is how many names a state gets that is found. A text that is ever another is none.
const mostFoundStates = 16

// truths are the states of what is true or false.
const truths series.StateNames = "0=false,1=true"

// discover makes a series what its first reading says, or what it was found to be before. A
// refusal says why it cannot be. defining is held.
func (in *intake) discover(r *rules, m *member, of *reading.Reading, before engine.Series, known bool) (refusal string) {
	if known {
		return m.find(of, &before)
	}
	full := in.countFound(r, m.rule)
	if full < m.rule.Discover {
		if refusal = m.find(of, nil); refusal == "" {
			r.found[m.rule]++
		}
		return refusal
	}
	if !r.told[m.rule] {
		r.told[m.rule] = true
		event.DiscoverFull.To(in.log, "select", m.rule.Select.String(), "most", m.rule.Discover, "first", m.def.Path)
	}
	return fmt.Sprintf("it would be a new series, and the rule that finds %s has found %d already; name the series in a rule of its own, or let that rule find more (discover: most)",
		m.rule.Select, full)
}

// find makes a series what it was before, or what a reading says.
func (m *member) find(of *reading.Reading, before *engine.Series) (refusal string) {
	switch {
	case before != nil:
		m.def.Kind, m.def.Unit, m.def.States, m.def.Wrap = before.Kind, before.Unit, before.States, before.Wrap
	case of.Text != "":
		m.def.Kind = series.State
	case of.Truth:
		m.def.Kind, m.def.States = series.State, truths
	default:
		if err := plain.CheckText(of.Unit); err != nil {
			return fmt.Sprintf("%q is no unit: %v", of.Unit, err)
		}
		if m.def.Unit = of.Unit; m.def.Unit == "" {
			m.def.Unit = unit.FromName(quantityOf(m.def.Path))
		}
	}
	if m.def.Kind != series.State || of.Text == "" {
		return ""
	}
	if err := plain.CheckText(of.Text); err != nil {
		return fmt.Sprintf("%q is no name of a state: %v", of.Text, err)
	}
	named, err := withName(m.def.States, of.Text)
	if err != nil && before == nil {
		return fmt.Sprintf("it would be a new series, and its first value is a text that is no name of a state: %v",
			err)
	}
	m.def.States = named
	return ""
}

// quantityOf returns the last level of a path.
func quantityOf(p series.Path) string { return string(p[strings.LastIndexByte(string(p), '/')+1:]) }

// countFound returns how many series are what they are by a rule of those that are found. defining is held.
func (in *intake) countFound(r *rules, rule *config.SeriesRule) int {
	if r.found == nil {
		r.found, r.told = map[*config.SeriesRule]int{}, map[*config.SeriesRule]bool{}
		for _, s := range in.store.List(series.Everything()) {
			if s.Collected {
				r.found[config.RuleOf(r.rules, s.Path)]++
			}
		}
	}
	return r.found[rule]
}

// withName returns states with one more.
func withName(states series.StateNames, name string) (series.StateNames, error) {
	all := states.Map()
	if _, there := states.Value(name); there {
		return states, nil
	}
	if len(all) >= mostFoundStates {
		return states, fmt.Errorf("it has %d already", len(all))
	}
	all[name] = series.StateNumber(name, slices.Collect(maps.Values(all)))
	return series.MakeStateNames(all)
}

// understands reports whether nothing about the series need change for a reading: it is no state that
// is found, or has the name.
func (m *member) understands(of *reading.Reading) bool {
	if m.rule.Discover == 0 || m.def.Kind != series.State || of.Text == "" {
		return true
	}
	more, err := withName(m.def.States, of.Text)
	return err != nil || more == m.def.States // what can be no name is refused
}

// asFound refuses a reading of another type than those by which its series was found.
func (m *member) asFound(one *reading.Reading) (refusal string) {
	state := m.def.Kind == series.State
	switch {
	case one.Text != "" && !state:
		return fmt.Sprintf("%q came where numbers were when the series was found; what it is now needs a path of its own",
			one.Text)
	case one.Truth && !state:
		return fmt.Sprintf("%t came where numbers were when the series was found; what it is now needs a path of its own",
			one.Value != 0)
	case one.Text == "" && state && m.def.States.Name(one.Value) == "":
		return fmt.Sprintf("the number %v came where texts were when the series was found; what it is now needs a path of its own",
			one.Value)
	}
	return ""
}

// Found is a series that was found, and waits for somebody to say what it is.
type Found struct {
	engine.Series
	Named bool // its unit is a guess by its name
}

// Finding is a rule by which series are found.
type Finding struct {
	Select series.Selector
	Most   int
	Found  []Found
}

// Discovered returns the series that were found and that no rule names.
func (in *intake) Discovered() (out []Finding) {
	rules := in.rules.Load().rules
	for i := range rules {
		rule := &rules[i]
		if rule.Discover == 0 {
			continue
		}
		one := Finding{Select: rule.Select, Most: rule.Discover}
		for _, s := range in.store.List(rule.Select) {
			if s.Collected && config.RuleOf(rules, s.Path) == rule {
				one.Found = append(one.Found, Found{s, s.Unit != "" && s.Unit == unit.FromName(quantityOf(s.Path))})
			}
		}
		out = append(out, one)
	}
	return out
}
