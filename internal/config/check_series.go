package config

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/formula"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
	"nexocumula/internal/core/unit"
)

func (raw seriesFile) check(at shape.Place) SeriesRule {
	out := SeriesRule{
		Definition: series.Definition{Unit: raw.Unit}, Limits: screen.Limits{Low: raw.Low, High: raw.High},
	}
	if symbol := unit.Suggest(raw.Unit); symbol != "" {
		at.Key("unit").Advise("the symbol of %s is %s; nothing is converted from or to %q", raw.Unit, symbol, raw.Unit)
	}
	out.Select = shape.Parsed(at.Key("select"), raw.Select, series.ParseSelector)
	out.Kind = shape.Parsed(at.Key("kind"), raw.Kind, series.ParseKind)
	out.Every = at.Key("every").Within(raw.Every, 0, 100*time.Millisecond, 31*24*time.Hour)
	out.FreshFor = at.Key("fresh_for").Duration(raw.FreshFor, cmp.Or(missedReadings*out.Every, series.DefaultFreshFor))
	if raw.FreshFor != "" && out.FreshFor > 0 && out.FreshFor < out.Every {
		at.Key("fresh_for").Wrong("a reading would speak for its series for %s, and the next one is expected after %s only; use %s, three times every, or leave fresh_for out",
			span.Format(out.FreshFor), span.Format(out.Every), span.Format(missedReadings*out.Every))
	}
	out.Limits.MaxAhead = at.Key("max_ahead").Duration(raw.MaxAhead, screen.DefaultMaxAhead)
	out.Wrap = raw.Wrap
	switch {
	case !(raw.Wrap >= 0):
		at.Key("wrap").Wrong("wrap says how many steps a counter has, such as 65536; %v is no such number", raw.Wrap)
	case raw.Wrap > 1<<53:
		at.Key("wrap").Wrong("%v steps are not possible: numbers are exact up to 9007199254740992 only; leave it out of a counter with more, whose wrap nobody sees",
			raw.Wrap)
	case raw.Wrap != 0 && out.Kind != series.Counter:
		at.Key("wrap").Wrong("wrap says how many steps a counter has, such as 65536; this series is a %s", out.Kind)
	}
	if out.Sketch = raw.Sketch; raw.Sketch && (out.Kind == series.Bearing || out.Kind == series.State) {
		at.Key("sketch").Wrong("a sketch estimates percentiles, which a %s does not have", out.Kind)
	}
	if out.States = shape.Parsed(at.Key("states"), raw.States, series.MakeStateNames); raw.States != nil &&
		out.Kind != series.State {
		at.Key("states").Wrong("names of states are for kind: state; this series is a %s", out.Kind)
	}
	out.Labels = shape.Parsed(at.Key("labels"), raw.Labels, series.MakeLabels)
	if raw.Low != nil && raw.High != nil && *raw.Low > *raw.High {
		at.Key("low").Wrong("the low end %v is above the high end %v", *raw.Low, *raw.High)
	}
	if raw.Tiers != nil {
		out.Tiers = shape.Parsed(at.Key("tiers"), raw.Tiers, series.ParseTiers)
	}
	out.Normal = raw.Normal.check(at.Key("normal"), out.Kind)
	for i, one := range raw.Calibration {
		out.Calibrations = append(out.Calibrations, one.check(at.Key("calibration").Item(i), out.Kind))
	}
	if !slices.IsSortedFunc(out.Calibrations,
		func(a, b calibrate.Calibration) int { return cmp.Compare(a.Since, b.Since) }) {
		at.Key("calibration").Wrong("calibrations stand in the order of their since:, the oldest first")
	}
	if n := len(out.Calibrations); n > 0 {
		out.Calibration = series.Calibration(out.Calibrations[n-1].String())
	}
	out.Thinning = raw.Thinning.check(at.Key("thinning"), &out)
	for i, one := range raw.Screens {
		out.Screens = append(out.Screens, one.check(at.Key("screens").Item(i), &out))
	}
	if out.Discover = raw.Discover.check(at.Key("discover")); out.Discover > 0 {
		raw.checkFound(at)
	}
	out.Derive = raw.Derive.check(at.Key("derive"), &out)
	var names []string
	for i, s := range out.Screens {
		if slices.Contains(names, s.Name) {
			at.Key("screens").Item(i).Wrong("two screens are called %s; give one a name: of its own, so that their rejects can be told apart",
				s.Name)
		}
		names = append(names, s.Name)
	}
	return out
}

// missedReadings is how many expected readings may be missing before the last one no longer
// speaks for its series.
const missedReadings = 3

// ends returns the ends of a range written as a list of two numbers; null is no end.
func ends(at shape.Place, raw []*float64) series.Bounds {
	out := series.Anything
	if len(raw) == 0 {
		return out
	}
	if len(raw) != 2 {
		at.Wrong("a range is [low, high]; null where there is no end")
		return out
	}
	if raw[0] != nil {
		out.Low = *raw[0]
	}
	if raw[1] != nil {
		out.High = *raw[1]
	}
	if !(out.Low < out.High) {
		at.Wrong("the low end %v is not below the high end %v", out.Low, out.High)
		return series.Anything
	}
	return out
}

func (raw normalFile) check(at shape.Place, kind series.Kind) series.Normal {
	inner, outer := ends(at.Key("inner"), raw.Inner), ends(at.Key("outer"), raw.Outer)
	if (inner != series.Anything || outer != series.Anything) && (kind == series.Counter || kind == series.Bearing) {
		at.Wrong("a %s has no normal range", kind)
	}
	out, err := series.MakeNormal(inner, outer)
	if err != nil {
		at.Wrong("%v", err)
	}
	return out
}

func (raw calibrationFile) check(at shape.Place, kind series.Kind) calibrate.Calibration {
	out := calibrate.Calibration{In: raw.UnitIn, Decimals: -1, Low: math.Inf(-1), High: math.Inf(1)}
	if kind == series.State {
		at.Wrong("a state is not calibrated; name its values with states:")
	}
	if raw.Since != "" {
		since, err := time.Parse(time.RFC3339, raw.Since)
		if err != nil || since.UnixNano() <= 0 {
			at.Key("since").Wrong("%q is no time; write one such as 2026-03-01T08:00:00Z", raw.Since)
		} else {
			out.Since = since.UnixNano()
		}
	}
	given := 0
	if raw.Scale != nil || raw.Offset != 0 {
		given++
		line := calibrate.NewLinear(raw.Scale, raw.Offset)
		if line.Scale == 0 || math.IsNaN(line.Scale+line.Offset) || math.IsInf(line.Scale+line.Offset, 0) {
			at.Key("scale").Wrong("with a scale of %v and an offset of %v every reading would be the same, or none",
				line.Scale, line.Offset)
		}
		out.Curve = line
	}
	if raw.Points != nil {
		given++
		table := shape.Parsed(at.Key("points"), raw.Points, points)
		if out.Curve = table; len(table) > 0 {
			out.Low, out.High = table[0].Raw, table[len(table)-1].Raw
		}
	}
	if raw.Polynomial != nil {
		given++
		out.Curve = shape.Parsed(at.Key("polynomial"), raw.Polynomial, calibrate.NewPolynomial)
	}
	if given == 0 {
		out.Curve = calibrate.Identity
	}
	if given > 1 {
		at.Wrong("give scale: and offset:, or points:, or polynomial:, not several of them")
	}
	if raw.Range != nil {
		made := ends(at.Key("range"), raw.Range)
		out.Low, out.High = made.Low, made.High
	}
	out.Outside = shape.Parsed(at.Key("outside"), raw.Outside, calibrate.ParseOutside)
	if out.Outside != calibrate.Extend && math.IsInf(out.Low, -1) && math.IsInf(out.High, 1) {
		at.Key("outside").Wrong("outside of what? give range: [low, high] of raw values, or points:")
	}
	if raw.Decimals != nil {
		if out.Decimals = *raw.Decimals; *raw.Decimals < 0 || *raw.Decimals > 9 {
			at.Key("decimals").Wrong("%d decimals are not possible; use 0 to 9", *raw.Decimals)
		}
	}
	return out
}

const mostFound = 100_000

func (raw *discoverFile) check(at shape.Place) int {
	switch {
	case raw == nil:
		return 0
	case raw.Most == nil:
		return 500
	case *raw.Most < 1 || *raw.Most > mostFound:
		at.Key("most").Wrong("%d is not possible; use 1 to %d", *raw.Most, mostFound)
	}
	return *raw.Most
}

// checkFound refuses to say of series that are found what only who knows them can say.
func (raw seriesFile) checkFound(at shape.Place) {
	for _, key := range []struct {
		name  string
		given bool
	}{
		{"kind", raw.Kind != ""}, {"unit", raw.Unit != ""}, {"wrap", raw.Wrap != 0}, {"states", raw.States != nil}, {"sketch", raw.Sketch}, {"calibration", raw.Calibration != nil},
		{"screens", raw.Screens != nil}, {"thinning", raw.Thinning != nil}, {"derive", raw.Derive != nil}, {"normal", raw.Normal.Inner != nil || raw.Normal.Outer != nil},
	} {
		if key.given {
			at.Key(key.name).Wrong("what series are that are found is not known yet, so their rule says nothing of it; leave %s: out, or name the series in a rule of their own",
				key.name)
		}
	}
}

func (raw *thinningFile) check(at shape.Place, of *SeriesRule) series.Thinning {
	if raw == nil {
		return series.Thinning{}
	}
	method, err := series.ParseThinMethod(raw.Method)
	out := series.Thinning{
		Method: method, Within: raw.Within, Relative: raw.Relative,
		Silence: at.Key("longest_silence").Duration(raw.LongestSilence, series.DefaultSilence),
	}
	if err = cmp.Or(err, out.Check(of.Kind)); err != nil {
		at.Wrong("%v", err)
	}
	return out
}

func points(raw [][]float64) (calibrate.Table, error) {
	var all []calibrate.Point
	for i, p := range raw {
		if len(p) != 2 {
			return nil, fmt.Errorf("point %d has %d numbers; write [raw, true]", i+1, len(p))
		}
		all = append(all, calibrate.Point{Raw: p[0], True: p[1]})
	}
	return calibrate.NewTable(all)
}

func (raw screenFile) check(at shape.Place, of *SeriesRule) screen.Check {
	out := screen.Check{Then: shape.Parsed(at.Key("then"), raw.Then, screen.ParseThen)}
	use := func(name string, test screen.Test) {
		if out.Test != nil {
			at.Key(name).Wrong("one screen is one check: give one of range, change, stuck_for, allowed, requires and holds")
		}
		out.Name, out.Test = cmp.Or(raw.Name, name), test
	}
	if raw.Range != nil {
		r := ends(at.Key("range"), raw.Range)
		use("range", screen.Within(r))
	}
	if raw.Change != nil {
		if !(*raw.Change > 0) || math.IsInf(*raw.Change, 0) {
			at.Key("change").Wrong("%v is no change; say by how much a value can change in the time of per:",
				*raw.Change)
		}
		if of.Kind == series.State {
			at.Key("change").Wrong("a state has no plausible change; use allowed:")
		}
		use("change", screen.Change{
			By: *raw.Change, Per: at.Key("per").Within(raw.Per, time.Minute, time.Millisecond, 31*24*time.Hour),
		})
	} else if raw.Per != "" {
		at.Key("per").Wrong("per: goes with change:")
	}
	if raw.StuckFor != "" {
		use("stuck", screen.Stuck{For: at.Key("stuck_for").Within(raw.StuckFor, 0, time.Second, 366*24*time.Hour)})
	}
	if raw.Allowed != nil {
		use("allowed",
			shape.Parsed(at.Key("allowed"), raw.Allowed,
				func(texts []string) (screen.Allowed, error) { return allowed(texts, of.States) }))
	}
	if raw.Requires != nil {
		for i, name := range raw.Requires {
			beside(at.Key("requires").Item(i), name)
		}
		use("requires", screen.Requires(raw.Requires))
	}
	if raw.Holds != "" {
		use("holds", raw.holds(at))
	} else if raw.With != nil {
		at.Key("with").Wrong("with: goes with holds:")
	}
	if out.Test == nil {
		at.Wrong("say what is checked: range, change, stuck_for, allowed, requires or holds")
	}
	if raw.Name != "" {
		if err := series.CheckLevel(raw.Name); err != nil {
			at.Key("name").Wrong("the name %v", err)
		}
	}
	return out
}

func (raw screenFile) holds(at shape.Place) screen.Test {
	var names, with []string
	for _, name := range slices.Sorted(maps.Keys(raw.With)) {
		if !formula.IsName(name) || name == "value" {
			at.Key("with").Key(name).Wrong("%q is no name for a formula; use letters, digits and _, and not value, which is the reading itself",
				name)
		}
		beside(at.Key("with").Key(name), raw.With[name])
		names, with = append(names, name), append(with, raw.With[name])
	}
	out, err := screen.NewHolds(raw.Holds, names, with)
	if err != nil {
		at.Key("holds").Wrong("%v", err)
	}
	return out
}

// beside checks the name of a series that is named from another.
func beside(at shape.Place, name string) {
	for _, level := range strings.Split(name, "/") {
		if err := series.CheckLevel(level); err != nil {
			at.Wrong("%q: write a quantity of the same station, such as water_temp, or station/quantity; a level %v",
				name, err)
			return
		}
	}
}

func allowed(texts []string, states series.StateNames) (out screen.Allowed, err error) {
	if len(texts) == 0 || len(texts) > 100 {
		return nil, fmt.Errorf("there are %d values; list 1 to 100, or names of states", len(texts))
	}
	for _, text := range texts {
		v, ok := states.Value(text)
		if !ok {
			if v, err = strconv.ParseFloat(text, 64); err != nil {
				return nil, fmt.Errorf("%q is neither a number nor one of the states %s", text,
					strings.Join(states.Names(), ", "))
			}
		}
		out = append(out, v)
	}
	return out, nil
}
