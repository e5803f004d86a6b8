package query

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"nexocumula/internal/core/formula"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// Input is a stat of a series under a name that calculations use; of many series, when the
// query groups them, of the one in each group.
type Input struct {
	Name   string
	Select series.Selector
	Stat   window.Stat
}

// Calculation is a formula over inputs and over calculations before it, evaluated for each
// window.
type Calculation struct {
	Name    string
	formula formula.Formula
}

const (
	mostInputs       = 20
	mostCalculations = 20
)

// ParseInput reads name=path, or name=path@stat; the stat is the mean when none is
// given. The path may be a selector.
func ParseInput(text string) (Input, error) {
	name, rest, ok := strings.Cut(text, "=")
	if !ok || !formula.IsName(name) {
		return Input{}, fmt.Errorf("input %q: write a name of letters and digits that is no word of a formula such as in, an equals sign and a series path, such as inlet=stony-beck/inlet/flow, and perhaps @ and a stat",
			text)
	}
	pathText, statText, has := strings.Cut(rest, "@")
	if !has {
		statText = "mean"
	}
	selector, err := series.ParseSelector(pathText)
	if err != nil {
		return Input{}, fmt.Errorf("input %s: %w", name, err)
	}
	stats, err := window.ParseStats(statText)
	if err != nil {
		return Input{}, fmt.Errorf("input %s: %w", name, err)
	}
	if len(stats) != 1 || stats[0].IsTime() {
		return Input{}, fmt.Errorf("input %s: %q is not one stat with a number, such as max", name, statText)
	}
	return Input{name, selector, stats[0]}, nil
}

// ParseCalculations reads each name=formula over the inputs and over those before it.
func ParseCalculations(texts []string, inputs []Input) ([]Calculation, error) {
	if len(inputs) > mostInputs || len(texts) > mostCalculations {
		return nil, fmt.Errorf("there are %d inputs and %d calculations; at most %d of each are possible", len(inputs),
			len(texts), mostInputs)
	}
	var names []string
	for _, in := range inputs {
		if slices.Contains(names, in.Name) {
			return nil, fmt.Errorf("two inputs are named %s; name them apart", in.Name)
		}
		names = append(names, in.Name)
	}
	var out []Calculation
	for _, text := range texts {
		name, body, ok := strings.Cut(text, "=")
		if !ok || !formula.IsName(name) || strings.HasPrefix(body, "=") {
			return nil, fmt.Errorf("calculation %q: write a name of letters and digits that is no word of a formula such as in, an equals sign and a formula over the inputs, such as loss=inlet-outlet",
				text)
		}
		if slices.Contains(names, name) {
			return nil, fmt.Errorf("calculation %s: an input or a calculation before it has this name; use another",
				name)
		}
		parsed, err := formula.Parse(body, names)
		if err != nil {
			return nil, fmt.Errorf("calculation %s: %w", name, err)
		}
		out = append(out, Calculation{name, parsed})
		names = append(names, name)
	}
	return out, nil
}

// inputGroup is where all inputs of the calculations come from.
type inputGroup struct {
	name   string // of the group; "" without groups
	inputs []engine.Series
}

// places finds the series of the inputs, for each group one of each; leftOut are the groups
// that lack one, with the reason.
func (q Windows) places(src Source) (places []inputGroup, leftOut []string, err error) {
	if len(q.Calculations) == 0 {
		return nil, nil, refuse("calculation",
			"there are inputs and nothing to calculate; give a calculation, such as loss=inlet-outlet")
	}
	grouped := q.By != (Grouping{})
	byInput := make([]map[string]engine.Series, len(q.Inputs)) // nil: one for all
	common := make([]engine.Series, len(q.Inputs))
	names := map[string]bool{}
	for i, in := range q.Inputs {
		found, err := Find(src.Store, in.Select)
		if err != nil {
			return nil, nil, err
		}
		if err := q.checkInput(in, found); err != nil {
			return nil, nil, err
		}
		wild := strings.ContainsAny(in.Select.String(), "+#")
		if len(found) == 1 && !(wild && grouped) {
			common[i] = found[0]
			continue
		}
		if !grouped {
			return nil, nil, refuse("calculation",
				"input %s names %d series, such as %s and %s; name one, or calculate for each place with by, such as by=level:2",
				in.Name, len(found), found[0].Path, found[1].Path)
		}
		byInput[i] = map[string]engine.Series{}
		for _, s := range found {
			name := q.By.of(s)
			if other, twice := byInput[i][name]; twice {
				return nil, nil, refuse("calculation",
					"input %s has two series in %s, %s and %s; name fewer, or group by more levels", in.Name, name,
					other.Path, s.Path)
			}
			byInput[i][name], names[name] = s, true
		}
	}
	if len(names) == 0 {
		return []inputGroup{{inputs: common}}, nil, nil
	}
	for _, name := range sorted(names) {
		one := inputGroup{name: name, inputs: slices.Clone(common)}
		var lacks []string
		for i, by := range byInput {
			if by == nil {
				continue
			}
			if s, ok := by[name]; ok {
				one.inputs[i] = s
			} else {
				lacks = append(lacks, q.Inputs[i].Name)
			}
		}
		if len(lacks) > 0 {
			leftOut = append(leftOut, fmt.Sprintf("%s: no series for %s", name, strings.Join(lacks, ", ")))
			continue
		}
		places = append(places, one)
	}
	if len(places) == 0 {
		return nil, nil, refuse("calculation", "no group has a series for every input: %s",
			strings.Join(leftOut[:min(3, len(leftOut))], "; "))
	}
	return places, leftOut, nil
}

func sorted(names map[string]bool) []string {
	var out []string
	for name := range names {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func (q Windows) checkInput(in Input, found []engine.Series) error {
	for _, s := range found {
		if in.Stat.IsEstimate() && !s.Sketch {
			return refuse("stats", "input %s: of %s no sketches are kept", in.Name, s.Path)
		}
		if !in.Stat.For(s.Kind) {
			return refuse("stats", "input %s: stat %s is for series of kind %s; %s is a %s", in.Name, in.Stat,
				in.Stat.Kinds(), s.Path, s.Kind)
		}
		if !q.Gaps.For(s.Kind) {
			return refuse("gaps",
				"input %s: %s is a state, and between two states there is none to join them; use carry", in.Name,
				s.Path)
		}
	}
	return nil
}

// calculate hands out one answer for each place and calculation.
func (r runner) calculate(ctx context.Context, head Head, places []inputGroup) error {
	head.Stats = []window.Stat{{Name: "value"}}
	if err := r.sink.Head(head); err != nil {
		return err
	}
	for _, p := range places {
		for i, plan := range r.plans {
			inputs := make([]SeriesRows, len(p.inputs))
			for k, s := range p.inputs {
				one := r
				one.Units = Units{}
				var err error
				if inputs[k], err = one.reduce(ctx, s, plan.of(s), []window.Stat{r.Inputs[k].Stat}); err != nil {
					return err
				}
			}
			for _, rows := range r.evaluate(inputs) {
				if p.name != "" {
					rows.Name = p.name + " " + rows.Name
				}
				rows.Tier, rows.Open = plan.narrowest().Tier, inputs[0].Open
				if i > 0 {
					rows.Shift, rows.Starts = r.Shift, plan.narrowest().Windows
				}
				if err := r.sink.Series(r.finish(rows)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// evaluate applies the formulas window by window. Where an input has no number, there is
// no outcome.
func (r runner) evaluate(inputs []SeriesRows) []SeriesRows {
	n := len(inputs[0].Empty)
	out := make([]SeriesRows, len(r.Calculations))
	values := make([]float64, len(inputs)+len(out))
	at := func(input func(SeriesRows) float64, outcome func(i int, v float64)) {
		complete := true
		for k, in := range inputs {
			values[k] = input(in)
			complete = complete && !math.IsNaN(values[k])
		}
		for i, c := range r.Calculations {
			v := math.NaN()
			if complete {
				v = c.formula(values)
			}
			if math.IsInf(v, 0) {
				v = math.NaN() // a division by nothing has no outcome
			}
			values[len(inputs)+i] = v
			outcome(i, v)
		}
	}
	coverage, filled := 1.0, make([]bool, n)
	for _, in := range inputs {
		coverage = min(coverage, in.Coverage)
		for i, yes := range in.Filled {
			filled[i] = filled[i] || yes
		}
	}
	for i, c := range r.Calculations {
		out[i] = SeriesRows{
			Name:  c.Name,
			Kind:  series.Gauge,
			Unit:  r.Units.ofCalculation(c.Name),
			Stats: []string{"value"},
		}
		out[i].StatUnits = []string{out[i].Unit}
		out[i].Rows = window.Rows{
			Stats:    [][]float64{make([]float64, n)},
			Empty:    make([]bool, n),
			Filled:   filled,
			Coverage: coverage,
			Whole:    make([]float64, 1),
		}
	}
	for w := range n {
		at(func(in SeriesRows) float64 { return in.Rows.Stats[0][w] }, func(i int, v float64) {
			out[i].Rows.Stats[0][w], out[i].Empty[w] = v, math.IsNaN(v)
		})
	}
	at(func(in SeriesRows) float64 { return in.Whole[0] }, func(i int, v float64) { out[i].Whole[0] = v })
	reasons := r.whyNot(inputs)
	for i := range out {
		out[i].Why = reasons
	}
	return out
}

// whyNot says of which inputs there are readings and no number, so that nothing can be calculated.
func (r runner) whyNot(inputs []SeriesRows) (out []Reason) {
	for k, in := range inputs {
		if in.Unknown[0] == nil {
			continue
		}
		n := 0
		for _, yes := range in.Unknown[0] {
			if yes {
				n++
			}
		}
		if n > 0 || in.WholeUnknown[0] {
			out = append(out, Reason{
				Stat:    "value",
				Windows: n,
				Text:    fmt.Sprintf("input %s: %s", r.Inputs[k].Name, r.Inputs[k].Stat.WhyUnknown()),
			})
		}
	}
	return out
}
