package series

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestANormalRangeIsMarkedFromInsideOut(t *testing.T) {
	n, err := MakeNormal(Bounds{6, 12}, Bounds{4, math.Inf(1)})
	require.NoError(t, err)
	assert.Equal(t, Normal("inner=6..12,outer=4.."), n)
	again, err := ParseNormal(string(n))
	require.NoError(t, err)
	assert.Equal(t, n, again)
	for v, wanted := range map[float64]Standing{
		6:    Usual,
		12:   Usual,
		5.9:  Unusual,
		300:  Unusual,
		4:    Unusual,
		3.99: Critical,
	} {
		assert.Equal(t, wanted, n.Of(v), v)
	}
	assert.Equal(t, Usual, Normal("").Of(-1e9))
	n, err = MakeNormal(Anything, Anything)
	require.NoError(t, err)
	assert.Empty(t, n)
	for _, wrong := range []string{
		"x", "inner=1", "inner=2..1", "middle=1..2", "inner=a..b", "inner=0..10,outer=1..9", "inner=NaN..1",
	} {
		_, err := ParseNormal(wrong)
		assert.Error(t, err, wrong)
	}
}

func TestASeriesThatEndedIsStaleAtOnce(t *testing.T) {
	d := Definition{FreshFor: 60}
	for now, wanted := range map[int64]Condition{104: Fresh, 106: Stale, 700: Stale, 701: Missing} {
		c, since := d.Condition(100, 105, now)
		assert.Equal(t, wanted, c, now)
		assert.Equal(t, map[Condition]int64{Fresh: 100, Stale: 105, Missing: 700}[wanted], since)
	}
}

func TestASeriesIsStaleAndThenMissing(t *testing.T) {
	d := Definition{FreshFor: 60}
	for now, wanted := range map[int64]Condition{100: Fresh, 160: Fresh, 161: Stale, 700: Stale, 701: Missing} {
		c, since := d.Condition(100, 0, now)
		assert.Equal(t, wanted, c, now)
		assert.Equal(t, map[Condition]int64{Fresh: 100, Stale: 160, Missing: 700}[wanted], since)
	}
}
