package query

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/vm"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store"
)

// Input is a stat of one series under a name that calculations use.
type Input struct {
	Name string
	Path series.Path
	Stat window.Stat
}

// Calculation is a formula over inputs, evaluated for each window.
type Calculation struct {
	Name    string
	program *vm.Program
}

const (
	mostFormula = 500
	mostInputs  = 20
)

// ParseInput reads name=path, or name=path@stat; the stat is the mean when none is
// given.
func ParseInput(text string) (Input, error) {
	name, rest, ok := strings.Cut(text, "=")
	if !ok || !isName(name) {
		return Input{}, fmt.Errorf("input %q: write a name of letters and digits, an equals sign and a series path, such as in=stony-beck/inlet/flow, and perhaps @ and a stat", text)
	}
	pathText, statText, has := strings.Cut(rest, "@")
	if !has {
		statText = "mean"
	}
	path, err := series.ParsePath(pathText)
	if err != nil {
		return Input{}, fmt.Errorf("input %s: %w", name, err)
	}
	stats, err := window.ParseStats(statText)
	if err != nil {
		return Input{}, fmt.Errorf("input %s: %w", name, err)
	}
	if len(stats) != 1 || stats[0].IsTime() || statText == "" {
		return Input{}, fmt.Errorf("input %s: %q is not one stat with a number, such as max", name, statText)
	}
	return Input{name, path, stats[0]}, nil
}

func isName(s string) bool {
	for i, c := range s {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
		if !letter && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return s != "" && len(s) <= 40
}

// functions a formula may use besides operators.
var functions = map[string]func(float64) float64{
	"abs": math.Abs, "sqrt": math.Sqrt, "exp": math.Exp, "log": math.Log, "round": math.Round, "floor": math.Floor, "ceil": math.Ceil,
}

// ParseCalculation reads name=formula over the inputs.
func ParseCalculation(text string, inputs []Input) (Calculation, error) {
	name, formula, ok := strings.Cut(text, "=")
	if !ok || !isName(name) || strings.HasPrefix(formula, "=") {
		return Calculation{}, fmt.Errorf("calculation %q: write a name of letters and digits, an equals sign and a formula over the inputs, such as loss=in-out", text)
	}
	if len(formula) > mostFormula {
		return Calculation{}, fmt.Errorf("calculation %s: the formula has %d characters; at most %d are possible", name, len(formula), mostFormula)
	}
	names := make([]string, len(inputs))
	env := map[string]any{}
	for i, in := range inputs {
		names[i] = in.Name
		env[in.Name] = 0.0
	}
	options := []expr.Option{expr.Env(env), expr.DisableAllBuiltins(), expr.EnableBuiltin("min"), expr.EnableBuiltin("max"), expr.MaxNodes(200)}
	for known, f := range functions {
		options = append(options, expr.Function(known, func(args ...any) (any, error) {
			v, err := asNumber(args[0])
			return f(v), err
		}, new(func(float64) float64), new(func(int) float64)))
	}
	program, err := expr.Compile(formula, options...)
	if err != nil {
		what, _, _ := strings.Cut(err.Error(), "\n") // after it the formula is drawn once more
		return Calculation{}, fmt.Errorf("calculation %s, line and column: %s; inputs are %s, functions abs, sqrt, exp, log, round, floor, ceil, min, max", name, what, strings.Join(names, ", "))
	}
	return Calculation{Name: name, program: program}, nil
}

// asNumber is a formula's outcome; a comparison's is 1 or 0.
func asNumber(v any) (float64, error) {
	switch v := v.(type) {
	case float64:
		return v, nil
	case int:
		return float64(v), nil
	case bool:
		if v {
			return 1, nil
		}
		return 0, nil
	}
	return 0, fmt.Errorf("the formula gives %v where a number is wanted", v)
}

// inputs are the series of the inputs, in their order.
func (q Windows) inputs(src Source) ([]store.Series, error) {
	if len(q.Calculations) == 0 {
		return nil, refuse("calculation", "there are inputs and nothing to calculate; give a calculation, such as loss=in-out")
	}
	if len(q.Inputs) > mostInputs {
		return nil, refuse("calculation", "there are %d inputs; at most %d are possible", len(q.Inputs), mostInputs)
	}
	var out []store.Series
	for i, in := range q.Inputs {
		if slices.ContainsFunc(q.Inputs[:i], func(other Input) bool { return other.Name == in.Name }) {
			return nil, refuse("calculation", "two inputs are named %s", in.Name)
		}
		selector, err := series.ParseSelector(string(in.Path))
		if err != nil {
			return nil, refuse("calculation", "input %s: %v", in.Name, err)
		}
		found, err := Find(src.Store, selector)
		if err != nil {
			return nil, err
		}
		if in.Stat.IsEstimate() && !found[0].Sketch {
			return nil, refuse("stats", "input %s: of %s no sketches are kept", in.Name, in.Path)
		}
		if !in.Stat.For(found[0].Kind) {
			return nil, refuse("stats", "input %s: stat %s is for series of kind %s; %s is a %s", in.Name, in.Stat, in.Stat.Kinds(), in.Path, found[0].Kind)
		}
		out = append(out, found[0])
	}
	return out, nil
}

// calculate hands out one answer a calculation.
func (r runner) calculate(ctx context.Context, head Head, found []store.Series) error {
	head.Stats = []window.Stat{{Name: "value"}}
	begun := false
	for i, plan := range r.plans {
		inputs := make([]SeriesRows, len(found))
		for k, s := range found {
			one := r
			one.Unit = ""
			var err error
			if inputs[k], err = one.reduce(ctx, s, plan.of(s), []window.Stat{r.Inputs[k].Stat}); err != nil {
				return err
			}
		}
		for _, c := range r.Calculations {
			rows, err := r.evaluate(c, inputs)
			if err != nil {
				return err
			}
			rows.Tier, rows.Open = plan.any().Tier, inputs[0].Open
			if i > 0 {
				rows.Shift = r.Shift
			}
			if !begun { // a formula that fails does so before anything is out
				begun = true
				if err := r.sink.Head(head); err != nil {
					return err
				}
			}
			if err := r.sink.Series(rows); err != nil {
				return err
			}
		}
	}
	return nil
}

// evaluate applies the formula window by window. Where an input has no number, there is
// no outcome.
func (r runner) evaluate(c Calculation, inputs []SeriesRows) (SeriesRows, error) {
	n := len(inputs[0].Empty)
	out := SeriesRows{Name: c.Name, Kind: series.Gauge, Unit: r.Unit, Stats: []string{"value"}, Times: make([][]int64, 1)}
	out.Rows = window.Rows{Stats: [][]float64{make([]float64, n)}, Empty: make([]bool, n), Filled: make([]bool, n), Coverage: 1}
	env := map[string]any{}
	var machine vm.VM
	at := func(number func(SeriesRows) float64) (float64, error) {
		for k, in := range inputs {
			v := number(in)
			if math.IsNaN(v) {
				return v, nil
			}
			env[r.Inputs[k].Name] = v
		}
		result, err := machine.Run(c.program, env)
		if err != nil {
			return 0, refuse("calculation", "calculation %s: %v", c.Name, err)
		}
		v, err := asNumber(result)
		if err != nil {
			return 0, refuse("calculation", "calculation %s: %v", c.Name, err)
		}
		if math.IsInf(v, 0) {
			v = math.NaN() // a division by nothing has no outcome
		}
		return v, nil
	}
	for i := range n {
		v, err := at(func(in SeriesRows) float64 { return in.Rows.Stats[0][i] })
		if err != nil {
			return out, err
		}
		out.Rows.Stats[0][i], out.Empty[i] = v, math.IsNaN(v)
		for _, in := range inputs {
			out.Filled[i] = out.Filled[i] || in.Filled[i]
		}
	}
	for _, in := range inputs {
		out.Coverage = min(out.Coverage, in.Coverage)
	}
	whole, err := at(func(in SeriesRows) float64 { return in.Whole[0] })
	out.Whole = []float64{whole}
	return out, err
}
