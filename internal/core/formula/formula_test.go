package formula

import (
	"math"
	"strings"
	"testing"

	"github.com/expr-lang/expr/parser"
	"github.com/stretchr/testify/assert"
)

// A formula that is taken has at most so many parts, each of which is computed once: no
// more steps than that. Whatever is written, nothing panics.
func FuzzFormulas(f *testing.F) {
	for _, text := range []string{
		"a-b", "a > 3 ? a : b", "let v=1..900; sum(v,{#+a})", "min(a, max(b, 2)) ** 2", "not (a == b) or true", "abs(", "1..3", "[a]", "{a}", "a?.b", "'x' + a", "a matches 'b'",
		strings.Repeat("(", 300), "0x1p4", "1e308*10", "a % 0", "#", "a | abs", "log10(a)^2",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		formula, err := Parse(text, []string{"a", "b"})
		if err != nil {
			assert.NotEmpty(t, err.Error())
			return
		}
		b := builder{text: text, names: []string{"a", "b"}}
		tree, err := parser.Parse(text)
		assert.NoError(t, err)
		b.build(tree.Node)
		assert.LessOrEqual(t, b.parts, mostParts)
		for _, v := range []float64{0, 1, -7.5, math.NaN(), math.Inf(1), math.MaxFloat64} {
			first, again := formula([]float64{v, 3}), formula([]float64{v, 3})
			assert.True(t, first == again || math.IsNaN(first) && math.IsNaN(again), "%q of %v: %v and %v", text, v,
				first, again)
		}
	})
}
