package config_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/kinds"
)

// ruled returns a file with one rule, whose keys are given.
func ruled(keys string) string {
	return "data: ./data\ngateway:\n  site: stony-beck\n  series:\n    - { select: \"#\", " + keys + " }\n"
}

func TestARuleSaysHowRawBecomesTrue(t *testing.T) {
	s, err := config.Parse("f.yaml", []byte(ruled(`unit: "%", every: 10s, normal: { inner: [20, 80], outer: [null, 95] },
        calibration: [{ points: [[120, 0], [880, 100]], unit_in: mV, outside: clamp, decimals: 1 }, { since: 2026-03-01T08:00:00Z, polynomial: [1, 2, 3], range: [0, 10], outside: reject }],
        screens: [{ range: [0, 100] }, { change: 5, per: 30s, then: uncertain }, { stuck_for: 6h, name: frozen }, { allowed: ["1", "2"] }, { requires: [water_temp] }, { holds: "value < t", with: { t: water_temp } }]`)), kinds.All)
	require.NoError(t, err)
	r := s.Gateway.Rules[0]
	assert.Equal(t, 10*time.Second, r.Every)
	assert.Equal(t, 30*time.Second, r.FreshFor, "three readings may be missing")
	assert.Equal(t, series.Normal("inner=20..80,outer=..95"), r.Normal)
	require.Len(t, r.Calibrations, 2)
	v, _ := r.Calibrations[0].Apply(500)
	assert.Equal(t, 50.0, v)
	assert.Equal(t, "points 120→0 880→100 from mV, clamp outside 120 to 880, decimals 1", r.Calibrations[0].String())
	assert.Equal(t, calibrate.Polynomial{1, 2, 3}, r.Calibrations[1].Curve)
	assert.Equal(t, time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC).UnixNano(), r.Calibrations[1].Since)
	var names []string
	for _, one := range r.Screens {
		names = append(names, one.Name+" "+string(one.Then))
	}
	assert.Equal(t, []string{
		"range reject", "change uncertain", "frozen reject", "allowed reject", "requires reject", "holds reject",
	}, names)
	assert.Equal(t, screen.Change{By: 5, Per: 30 * time.Second}, r.Screens[1].Test)
	assert.True(t, r.Marks())
}

func TestRulesThatMeanNothingAreRefusedAllAtOnce(t *testing.T) {
	for keys, wrong := range map[string]string{
		`calibration: [{ points: [[1, 2]] }]`:                             "2 to 200",
		`calibration: [{ points: [[1, 2, 3], [2, 3]] }]`:                  "point 1 has 3 numbers",
		`calibration: [{ scale: 0 }]`:                                     "every reading would be the same",
		`calibration: [{ scale: 2, polynomial: [1, 2] }]`:                 "not several of them",
		`calibration: [{ scale: 2, outside: clamp }]`:                     "outside of what?",
		`calibration: [{ scale: 2, outside: cut, range: [0, 1] }]`:        "use extend, clamp or reject",
		`calibration: [{ decimals: 12 }]`:                                 "use 0 to 9",
		`calibration: [{ since: yesterday }]`:                             "write one such as 2026-03-01T08:00:00Z",
		`calibration: [{ since: 2026-03-01T08:00:00Z }, { scale: 2 }]`:    "the oldest first",
		`kind: state, calibration: [{ scale: 2 }]`:                        "a state is not calibrated",
		`screens: [{ then: reject }]`:                                     "say what is checked",
		`screens: [{ range: [0, 1], stuck_for: 1h }]`:                     "one screen is one check",
		`screens: [{ range: [5, 1] }]`:                                    "is not below",
		`screens: [{ range: [1] }]`:                                       "[low, high]",
		`screens: [{ change: -1 }]`:                                       "is no change",
		`kind: state, screens: [{ change: 1 }]`:                           "use allowed",
		`screens: [{ per: 1m, range: [0, 1] }]`:                           "goes with change",
		`screens: [{ allowed: [ajar] }]`:                                  "neither a number nor one of the states",
		`screens: [{ requires: ["a b"] }]`:                                "write a quantity",
		`screens: [{ holds: "value <" }]`:                                 "holds:",
		`screens: [{ holds: "value < x" }]`:                               "unknown name x",
		`screens: [{ holds: "value < 1", with: { value: oxygen } }]`:      "is no name for a formula",
		`screens: [{ range: [0, 1], with: { a: b } }]`:                    "goes with holds",
		`screens: [{ range: [0, 1], then: ignore }]`:                      "use reject or uncertain",
		`screens: [{ range: [0, 1] }, { range: [0, 2], then: uncertain}]`: "two screens are called range",
		`screens: [{ range: [0, 1], name: "a/b" }]`:                       "name",
		`normal: { inner: [0, 10], outer: [1, 9] }`:                       "reaches beyond",
		`kind: counter, normal: { inner: [0, 10] }`:                       "no normal range",
		`every: 1ms`: "use 100ms to",
	} {
		_, err := config.Parse("f.yaml", []byte(ruled(keys)), kinds.All)
		var problems shape.Problems
		if assert.ErrorAs(t, err, &problems, keys) {
			assert.Len(t, problems, 1, keys)
			assert.Contains(t, problems[0].Text, wrong, keys)
			assert.Equal(t, 5, problems[0].Line, keys)
		}
	}
	var all strings.Builder
	all.WriteString("data: ./data\nlisten: nowhere\ngateway:\n  site: stony-beck\n  wether: fine\n  series:\n")
	for i := range 20 {
		fmt.Fprintf(&all, "    - { select: \"+/%d/#\", screens: [{ range: [%d, 0] }] }\n", i, i+1)
	}
	_, err := config.Parse("f.yaml", []byte(all.String()), kinds.All)
	var problems shape.Problems
	require.ErrorAs(t, err, &problems)
	assert.Len(t, problems, 22, "an unknown key hides none of the others")
}

func TestWhatChangedIsTold(t *testing.T) {
	before := parsed(t, good)
	for _, test := range []struct {
		from, to     string
		now, restart []string
	}{
		{"max_rows: 1000", "max_rows: 2000", []string{"queries"}, nil},
		{"high: 20", "high: 21", []string{"gateway.series"}, nil},
		{"for: 30d", "for: 31d", []string{"keep"}, nil},
		{"data: ./data", "data: ./other", nil, []string{"data"}},
		{"head-office", "head", nil, nil}, // an uplink's
		{"high: 20,", "high: 20, # a comment\n       ", nil, nil},
		{"scale: 2", "scale: 3", nil, nil}, // a source's
	} {
		after := parsed(t, strings.Replace(good, test.from, test.to, 1))
		now, restart := after.Changed(before)
		assert.Equal(t, test.now, now, test.to)
		assert.Equal(t, test.restart, restart, test.to)
		assert.Equal(t, test.to != "scale: 3", after.Gateway.Sources[0].Print == before.Gateway.Sources[0].Print,
			test.to)
		assert.Equal(t, after.Gateway.Sources[1].Print, before.Gateway.Sources[1].Print)
	}
}

func parsed(t *testing.T, text string) config.Settings {
	t.Setenv("TROUT", "secret")
	s, err := config.Parse("f.yaml", []byte(text), kinds.All)
	require.NoError(t, err)
	return s
}
