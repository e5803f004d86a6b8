package series

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParsePathSaysWhichLevelIsWrong(t *testing.T) {
	for text, wrong := range map[string]string{
		"long-mere/buoy-1/oxygen":       "",
		"a/b":                           "",
		"a/b/c/d.e_f":                   "",
		"":                              "is empty",
		"alone":                         "1 level(s)",
		"a/../b":                        "level 2: \"..\" names no place",
		"a//b":                          "level 2: is empty",
		"a/b/":                          "level 3: is empty",
		"a/b c/d":                       `level 2: "b c" holds ' '`,
		"a/+/c":                         `level 2: "+" holds '+'`,
		"a/ü/c":                         "level 2",
		"a/" + strings.Repeat("x", 300): "302 bytes long",
		strings.Repeat("a/", 12) + "a":  "13 level(s)",
	} {
		p, err := ParsePath(text)
		if wrong == "" {
			require.NoError(t, err, text)
			assert.Equal(t, text, string(p))
		} else {
			assert.ErrorContains(t, err, wrong, text)
		}
	}
}

// The examples of MQTT 5.0, sections 4.7.1.2 and 4.7.1.3, with our paths' levels.
func TestSelectorsMatchAsTopicFiltersDo(t *testing.T) {
	for _, test := range []struct {
		selector, path string
		match          bool
	}{
		{"sport/tennis/player1/#", "sport/tennis/player1", true},
		{"sport/tennis/player1/#", "sport/tennis/player1/ranking", true},
		{"sport/tennis/player1/#", "sport/tennis/player1/score/wimbledon", true},
		{"#", "sport/tennis", true},
		{"sport/tennis/+", "sport/tennis/player1", true},
		{"sport/tennis/+", "sport/tennis/player1/ranking", false},
		{"+/tennis/#", "sport/tennis/player1", true},
		{"sport/+/player1", "sport/tennis/player1", true},
		{"sport/+", "sport", false},
		{"sport/tennis", "sport/tennis", true},
		{"sport/tennis", "sport/tenni", false},
		{"sport/tennis", "sport/tennis/player1", false},
	} {
		s, err := ParseSelector(test.selector)
		require.NoError(t, err)
		assert.Equal(t, test.match, s.Match(Path(test.path)), "%s and %s", test.selector, test.path)
	}
}

func TestSelectorsThatMeanNothingAreRefused(t *testing.T) {
	for text, wrong := range map[string]string{"": "is empty", "a/#/b": "# may only be the last level", "a/b+": "level 2", "a//b": "level 2: is empty"} {
		_, err := ParseSelector(text)
		assert.ErrorContains(t, err, wrong, text)
	}
}

func TestKindsAreKnownByName(t *testing.T) {
	for text, kind := range map[string]Kind{"": Gauge, "gauge": Gauge, "counter": Counter, "state": State, "bearing": Bearing} {
		k, err := ParseKind(text)
		require.NoError(t, err)
		assert.Equal(t, kind, k)
	}
	_, err := ParseKind("angle")
	assert.ErrorContains(t, err, "use gauge, counter, state or bearing")
}
