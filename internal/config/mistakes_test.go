package config_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/kinds"
)

// mistake is a change of a good file, and what is said of it.
type mistake struct {
	From   string `yaml:"from"`
	To     string `yaml:"to"`
	Says   string `yaml:"says"`   // with its line
	Advice bool   `yaml:"advice"` // it may be right
}

func TestMistakesOfTheFieldAreExplained(t *testing.T) {
	text, err := os.ReadFile("testdata/mistakes.yaml")
	require.NoError(t, err)
	var all struct {
		Good     string    `yaml:"good"`
		Mistakes []mistake `yaml:"mistakes"`
	}
	require.NoError(t, yaml.Unmarshal(text, &all))
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/secret", []byte("0123456789abcdef"), 0o600))
	good := strings.ReplaceAll(all.Good, "DIR", dir)
	said := func(text string) (problems, advice []string) {
		s, err := config.Parse("f.yaml", []byte(text), kinds.All)
		if err != nil {
			var found shape.Problems
			require.ErrorAs(t, err, &found)
			for _, p := range found {
				problems = append(problems, fmt.Sprintf("%d: %s", p.Line, p.Text))
			}
		}
		for _, p := range s.Advice {
			advice = append(advice, fmt.Sprintf("%d: %s", p.Line, p.Text))
		}
		return problems, advice
	}
	problems, advice := said(good)
	require.Empty(t, problems)
	require.Empty(t, advice)
	for _, m := range all.Mistakes {
		m.From = strings.ReplaceAll(m.From, "DIR", dir)
		require.True(t, strings.Contains(good, m.From), m.From)
		problems, advice := said(strings.Replace(good, m.From, strings.ReplaceAll(m.To, "DIR", dir), 1))
		if m.Advice {
			assert.Empty(t, problems, m.To)
			problems = advice
		}
		if assert.NotEmpty(t, problems, m.To) {
			assert.Contains(t, strings.Join(problems, "\n"), m.Says, m.To)
			assert.LessOrEqual(t, len(problems), 4, "%s: one mistake is not told many times: %s", m.To, problems)
		}
	}
	assert.GreaterOrEqual(t, len(all.Mistakes), 98)
}
