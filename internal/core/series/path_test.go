package series

import (
	"encoding/json"
	"os"
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
	text, err := os.ReadFile("testdata/selectors.json") // the console is tested with the same
	require.NoError(t, err)
	var tests []struct {
		Selector, Path string
		Names          bool
	}
	require.NoError(t, json.Unmarshal(text, &tests))
	require.NotEmpty(t, tests)
	for _, test := range tests {
		s, err := ParseSelector(test.Selector)
		require.NoError(t, err)
		assert.Equal(t, test.Names, s.Match(Path(test.Path)), "%s and %s", test.Selector, test.Path)
	}
}

func TestSelectorsThatMeanNothingAreRefused(t *testing.T) {
	for text, wrong := range map[string]string{
		"":      "is empty",
		"a/#/b": "# may only be the last level",
		"a/b+":  "level 2",
		"a//b":  "level 2: is empty",
	} {
		_, err := ParseSelector(text)
		assert.ErrorContains(t, err, wrong, text)
	}
}

func TestKindsAreKnownByName(t *testing.T) {
	for text, kind := range map[string]Kind{
		"":        Gauge,
		"gauge":   Gauge,
		"counter": Counter,
		"state":   State,
		"bearing": Bearing,
	} {
		k, err := ParseKind(text)
		require.NoError(t, err)
		assert.Equal(t, kind, k)
	}
	_, err := ParseKind("angle")
	assert.ErrorContains(t, err, "use gauge, counter, state or bearing")
}
