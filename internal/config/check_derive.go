package config

import (
	"maps"
	"slices"
	"strings"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/formula"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/unit"
)

func (raw *deriveFile) check(at shape.Place, of *SeriesRule) *Derive {
	if raw == nil {
		return nil
	}
	out := &Derive{Text: raw.Formula}
	levels := of.Select.Levels()
	if n := len(levels); n > 0 && (levels[n-1] == "+" || levels[n-1] == "#") {
		at.Wrong("the select of a series that is made of others ends with its quantity, such as +/+/dew_point")
	}
	var names []string
	for _, name := range slices.Sorted(maps.Keys(raw.From)) {
		at := at.Key("from").Key(name)
		if !formula.IsName(name) {
			at.Wrong("%q is no name for a formula; use letters, digits and _", name)
		}
		path, in, _ := strings.Cut(raw.From[name], " in ")
		one := Input{Series: strings.TrimSpace(path), In: strings.TrimSpace(in), Into: unit.Conversion{Scale: 1}}
		beside(at, one.Series)
		if strings.Contains(one.Series, "/") && slices.ContainsFunc(levels,
			func(l string) bool { return l == "+" || l == "#" }) {
			at.Wrong("%q is one series, so the select of what is made of it must be one too, without wildcards",
				one.Series)
		}
		if n := len(levels); n > 0 && one.Series == levels[n-1] {
			at.Wrong("a series cannot be made of itself")
		}
		names, out.From = append(names, name), append(out.From, one)
	}
	if len(names) == 0 {
		at.Key("from").Wrong("say which series it is made of")
	}
	f, err := formula.Parse(raw.Formula, names)
	if err != nil {
		at.Key("formula").Wrong("%v", err)
	}
	out.Formula = f
	return out
}

// checkDerived finds inputs whose unit cannot be that of a formula, or that are made of others
// themselves, once all rules are known.
func checkDerived(at shape.Place, rules []SeriesRule) {
	for i := range rules {
		d := rules[i].Derive
		if d == nil {
			continue
		}
		target := series.Path(strings.NewReplacer("+", "x", "#", "x").Replace(strings.Join(rules[i].Select.Levels(),
			"/")))
		for k := range d.From {
			from := &d.From[k]
			input := RuleFor(rules, screen.Beside(target, from.Series))
			at := at.Item(i).Key("derive").Key("from")
			switch {
			case input.Derive != nil:
				at.Wrong("%s is made of others itself; write the whole formula", from.Series)
			case input.Kind == series.Counter:
				at.Wrong("%s is a counter, whose readings mean nothing by themselves", from.Series)
			case from.In != "":
				into, err := unit.Convert(input.Unit, from.In)
				if err != nil {
					at.Wrong("the unit of %s is %q by its rule, and the formula wants %s: %v", from.Series, input.Unit,
						from.In, err)
				}
				from.Into = into
			}
		}
	}
}
