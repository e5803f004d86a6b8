// Package formula reads formulas over named numbers, which people write in configurations
// and queries.
package formula

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/parser"
)

// Formula computes a number from numbers. It is made from a parsed text of which every
// part was found in a short list, so that it ends after as many steps as it has parts.
type Formula func(values []float64) float64

const (
	mostFormula = 500 // characters
	mostParts   = 200
)

// functions a formula may use besides operators, by how many numbers they take.
var (
	ofOne = map[string]func(float64) float64{
		"abs": math.Abs, "sqrt": math.Sqrt, "exp": math.Exp, "log": math.Log, "log10": math.Log10, "round": math.Round, "floor": math.Floor, "ceil": math.Ceil,
	}
	ofTwo = map[string]func(float64, float64) float64{"min": math.Min, "max": math.Max, "pow": math.Pow}
)

var operators = map[string]func(a, b float64) float64{
	"+": func(a, b float64) float64 { return a + b }, "-": func(a, b float64) float64 { return a - b },
	"*": func(a, b float64) float64 { return a * b }, "/": func(a, b float64) float64 { return a / b },
	"%": math.Mod, "**": math.Pow, "^": math.Pow,
	"<": func(a, b float64) float64 { return oneIf(a < b) }, "<=": func(a, b float64) float64 { return oneIf(a <= b) },
	">": func(a, b float64) float64 { return oneIf(a > b) }, ">=": func(a, b float64) float64 { return oneIf(a >= b) },
	"==": func(a, b float64) float64 { return oneIf(a == b) }, "!=": func(a, b float64) float64 { return oneIf(a != b) },
	"and": func(a, b float64) float64 {
		return oneIf(a != 0 &&
			b != 0)
	}, "&&": func(a, b float64) float64 { return oneIf(a != 0 && b != 0) },
	"or": func(a, b float64) float64 {
		return oneIf(a != 0 ||
			b != 0)
	}, "||": func(a, b float64) float64 { return oneIf(a != 0 || b != 0) },
}

func oneIf(yes bool) float64 {
	if yes {
		return 1
	}
	return 0
}

// Parse reads a formula over named values, which it will be given in the order of
// the names.
func Parse(text string, names []string) (Formula, error) {
	if len(text) > mostFormula {
		return nil, fmt.Errorf("the formula has %d characters; at most %d are possible", len(text), mostFormula)
	}
	tree, err := parser.Parse(text)
	if err != nil {
		what, _, _ := strings.Cut(err.Error(), "\n") // after it the formula is drawn once more
		return nil, fmt.Errorf("%s, counted in lines and characters of %q", what, text)
	}
	b := builder{text: text, names: names}
	out := b.build(tree.Node)
	if b.wrong != nil {
		return nil, b.wrong
	}
	return out, nil
}

// builder turns the parts of a parsed formula into functions and refuses what is not in
// the list.
type builder struct {
	text  string
	names []string
	parts int
	wrong error
}

func (b *builder) refuse(node ast.Node, what string) Formula {
	if b.wrong == nil {
		b.wrong = fmt.Errorf("%s at character %d; a formula is made of numbers, the names %s, + - * / %% ** < <= > >= == != and or not, a ? b : c, and the functions %s",
			what, node.Location().From+1, strings.Join(b.names, ", "), functionNames())
	}
	return func([]float64) float64 { return math.NaN() }
}

func functionNames() string {
	var out []string
	for name := range ofOne {
		out = append(out, name+"(a)")
	}
	for name := range ofTwo {
		out = append(out, name+"(a, b)")
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

func (b *builder) build(node ast.Node) Formula {
	if b.parts++; b.parts > mostParts {
		return b.refuse(node, fmt.Sprintf("the formula has more than %d parts", mostParts))
	}
	switch n := node.(type) {
	case *ast.IntegerNode:
		return constant(float64(n.Value))
	case *ast.FloatNode:
		return constant(n.Value)
	case *ast.BoolNode:
		return constant(oneIf(n.Value))
	case *ast.IdentifierNode:
		i := slices.Index(b.names, n.Value)
		if i < 0 {
			return b.refuse(n, "unknown name "+n.Value)
		}
		return func(v []float64) float64 { return v[i] }
	case *ast.UnaryNode:
		return b.unary(n)
	case *ast.BinaryNode:
		operator, ok := operators[n.Operator]
		if !ok {
			return b.refuse(n, "unknown operator "+n.Operator)
		}
		left, right := b.build(n.Left), b.build(n.Right)
		return func(v []float64) float64 { return operator(left(v), right(v)) }
	case *ast.ConditionalNode:
		condition, yes, no := b.build(n.Cond), b.build(n.Exp1), b.build(n.Exp2)
		return func(v []float64) float64 {
			if condition(v) != 0 {
				return yes(v)
			}
			return no(v)
		}
	case *ast.CallNode:
		if callee, ok := n.Callee.(*ast.IdentifierNode); ok {
			return b.call(n, callee.Value, n.Arguments)
		}
	case *ast.BuiltinNode:
		return b.call(n, n.Name, n.Arguments)
	}
	return b.refuse(node, "something that is no number")
}

func constant(v float64) Formula { return func([]float64) float64 { return v } }

func (b *builder) unary(n *ast.UnaryNode) Formula {
	of := b.build(n.Node)
	switch n.Operator {
	case "-":
		return func(v []float64) float64 { return -of(v) }
	case "+":
		return of
	case "!", "not":
		return func(v []float64) float64 { return oneIf(of(v) == 0) }
	}
	return b.refuse(n, "unknown operator "+n.Operator)
}

func (b *builder) call(node ast.Node, name string, arguments []ast.Node) Formula {
	one, isOne := ofOne[name]
	two, isTwo := ofTwo[name]
	switch {
	case !isOne && !isTwo:
		return b.refuse(node, "unknown function "+name)
	case isOne && len(arguments) == 1:
		of := b.build(arguments[0])
		return func(v []float64) float64 { return one(of(v)) }
	case isTwo && len(arguments) == 2:
		first, second := b.build(arguments[0]), b.build(arguments[1])
		return func(v []float64) float64 { return two(first(v), second(v)) }
	}
	return b.refuse(node, fmt.Sprintf("%s with %d numbers", name, len(arguments)))
}
