package series

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLabelsAreOneSortedText(t *testing.T) {
	l, err := MakeLabels(map[string]string{"sensor": "optical", "depth": "3m"})
	require.NoError(t, err)
	assert.Equal(t, Labels("depth=3m,sensor=optical"), l)
	parsed, err := ParseLabels(" sensor=optical,depth=3m")
	require.NoError(t, err)
	assert.Equal(t, l, parsed)
	assert.Equal(t, []string{"depth=3m", "sensor=optical"}, slices.Collect(l.Pairs()))
	assert.Equal(t, map[string]string{"depth": "3m", "sensor": "optical"}, l.Map())
	v, ok := l.Get("sensor")
	assert.True(t, ok)
	assert.Equal(t, "optical", v)
	_, ok = l.Get("sens")
	assert.False(t, ok)
	assert.True(t, l.Has("depth=3m"))
	assert.True(t, l.Has(""))
	assert.False(t, l.Has("depth=3m,sensor=galvanic"))
	assert.False(t, Labels("").Has("depth=3m"))
	assert.Empty(t, Labels("").Map())
	assert.Empty(t, slices.Collect(Labels("").Pairs()))
}

func TestLabelsThatCannotBeAreRefused(t *testing.T) {
	for text, wrong := range map[string]string{
		"depth": "write key=value", "=3m": "is empty", "depth=": "is empty", "depth=3 m": "holds ' '",
		"a=1,a=2": "given twice", "a=b=c": "holds '='", "x=" + strings.Repeat("y", 1000): "at most 1000",
	} {
		_, err := ParseLabels(text)
		assert.ErrorContains(t, err, wrong, text)
	}
	many := map[string]string{}
	for i := range 17 {
		many[fmt.Sprint("k", i)] = "v"
	}
	_, err := MakeLabels(many)
	assert.ErrorContains(t, err, "at most 16")
}

func TestSelectorsWithLabels(t *testing.T) {
	s, err := ParseSelector("long-mere/+/temp")
	require.NoError(t, err)
	assert.Equal(t, "long-mere/+/temp", s.String())
	with := s.With("depth=3m")
	assert.Equal(t, "long-mere/+/temp with depth=3m", with.String())
	assert.Equal(t, Labels("depth=3m"), with.Labels())
	assert.Equal(t, []string{"long-mere", "+", "temp"}, with.Levels())
	assert.Empty(t, s.Labels(), "the one without stays as it is")
}

func TestStepsOfCountersByHand(t *testing.T) {
	for _, test := range []struct {
		wrap, earlier, later, grown float64
		reset                       bool
	}{
		{0, 10, 12, 2, false}, {0, 12, 12, 0, false}, {0, 12, 3, 3, true},
		{100, 98, 3, 5, false}, {100, 60, 12, 12, true}, // to 52 it is more than half of the width
		{100, 60, 9, 49, false}, {100, 60, 10, 10, true},
		{65536, 65535, 0, 1, false},
	} {
		def := &Definition{Kind: Counter, Wrap: test.wrap}
		grown, reset := def.Step(test.earlier, test.later)
		assert.Equal(t, test.grown, grown, test)
		assert.Equal(t, test.reset, reset, test)
	}
}
