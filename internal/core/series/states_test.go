package series

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStatesHaveNames(t *testing.T) {
	n, err := MakeStateNames(map[string]float64{"open": 1, "closed": 0, "half open": 0.5, "fault": -1})
	require.NoError(t, err)
	assert.Equal(t, StateNames("-1=fault,0=closed,0.5=half open,1=open"), n)
	again, err := ParseStateNames(string(n))
	require.NoError(t, err)
	assert.Equal(t, n, again)
	assert.Equal(t, "half open", n.Name(0.5))
	assert.Empty(t, n.Name(2))
	v, ok := n.Value(" OPEN ")
	assert.True(t, ok)
	assert.EqualValues(t, 1, v)
	_, ok = n.Value("ajar")
	assert.False(t, ok)
	assert.Equal(t, []string{"fault", "closed", "half open", "open"}, n.Names())
	assert.Equal(t, map[string]float64{"open": 1, "closed": 0, "half open": 0.5, "fault": -1}, n.Map())
	none, err := ParseStateNames("")
	require.NoError(t, err)
	assert.Empty(t, none)
	assert.Empty(t, none.Name(0))
}

func TestNamesOfStatesThatCannotBeAreRefused(t *testing.T) {
	for _, wrong := range []map[string]float64{
		{"": 1}, {"a,b": 1}, {"a=b": 1}, {" a": 1}, {"a\n": 1}, {strings.Repeat("x", 41): 1}, {"a": math.NaN()}, {"a": 1, "b": 1},
	} {
		_, err := MakeStateNames(wrong)
		assert.Error(t, err, wrong)
	}
	for _, wrong := range []string{"x=a", "1", "1=a,2=a"} {
		_, err := ParseStateNames(wrong)
		assert.Error(t, err, wrong)
	}
}
