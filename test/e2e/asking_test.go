package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/demo"
	"nexocumula/test/asking"
)

// The document's answers are of another day; what they are about must be the same.
func TestTheQuestionsAreAnsweredAsTheDocumentShows(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "asking.md"))
	require.NoError(t, err)
	questions := asking.Parse(string(text))
	require.GreaterOrEqual(t, len(questions), 31)
	program, err := binary()
	require.NoError(t, err)
	p := start(t, program, "demo", "--dir", filepath.Join(t.TempDir(), "demo"), "--console", "127.0.0.1:0",
		"--world-time", demo.Midday().Format(time.RFC3339))
	eventually(t, "the demo is ready", func() bool { return strings.Contains(p.output.String(), "Ctrl-C") })
	running := asking.Demo{Binary: program, Consoles: asking.Consoles(p.output.String())}
	for _, q := range questions {
		answer, err := running.Ask(q)
		if !assert.NoError(t, err, q.Title) {
			continue
		}
		assert.Equal(t, words(q.Answer), words(answer), q.Title)
		assert.Greater(t, strings.Count(answer, "\n"), 2, "%s: an answer without a row\n%s", q.Title, answer)
		assert.NotContains(t, answer, "NaN", q.Title)
	}
}

// words returns the words of an answer's heading, and the quantities it is about.
func words(answer string) []string {
	heading, rest, _ := strings.Cut(answer, "\n")
	out := strings.Fields(heading)
	if m := regexp.MustCompile(`(?m)^[ 0-9]*([a-z]+[-/a-z0-9=]*[a-z])`).FindStringSubmatch(rest); m != nil {
		out = append(out, m[1])
	}
	return out
}
