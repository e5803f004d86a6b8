package cli

import (
	"bytes"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

// Every command is in a group, begins with an imperative, and has examples whose commands and options there are.
func TestEveryCommandHasHelp(t *testing.T) {
	var seen []string
	root := rootCommand([]string{"nexocumula"}, "test", &bytes.Buffer{}, &bytes.Buffer{})
	require.NoError(t, root.Run(t.Context(), []string{"nexocumula", "version"})) // it adds what is the library's
	var walk func(c *cli.Command, name string)
	walk = func(c *cli.Command, name string) {
		seen = append(seen, name)
		assert.True(t, unicode.IsUpper([]rune(c.Usage)[0]), "%s: %s", name, c.Usage)
		assert.NotEmpty(t, examples[name], name)
		for _, f := range c.Flags {
			assert.NotEmpty(t, f.(cli.DocGenerationFlag).GetUsage(), "%s %v", name, f.Names())
		}
		for _, line := range examples[name] {
			assertCommand(t, root, line)
		}
		assert.NotPanics(t, func() { arity(c.ArgsUsage) }, name)
		for _, below := range c.Commands {
			walk(below, name+" "+below.Name)
		}
	}
	var grouped []string
	for _, g := range groups {
		grouped = append(grouped, g.commands...)
	}
	for _, c := range root.Commands {
		assert.Contains(t, grouped, c.Name)
		assert.NotEmpty(t, c.Category, c.Name)
		walk(c, c.Name)
	}
	for name := range examples {
		assert.Contains(t, seen, name, "examples of no command")
	}
	var out bytes.Buffer
	for command, example := range map[string]string{
		"windows": "windows stony-beck/raceway-4/oxygen --last 24h",
		"note":    "note list --last 7d\n   nexocumula note add stony-beck/raceway-1 'probe cleaned'\n\n",
	} {
		require.Zero(t, Run(t.Context(), []string{"nexocumula", command, "--help"}, "test", &out, &out))
		assert.Contains(t, out.String(), "EXAMPLES:\n   nexocumula "+example)
		assert.NotContains(t, out.String(), "CATEGORY")
	}
}

// assertCommand looks whether a line's commands and options are known.
func assertCommand(t *testing.T, root *cli.Command, line string) {
	t.Helper()
	c := root
	words := strings.Fields(line)
	for len(words) > 0 && c.Command(words[0]) != nil {
		c, words = c.Command(words[0]), words[1:]
	}
	for _, word := range words {
		name := strings.TrimLeft(word, "-")
		if name == word || name == "" { // - stands for what comes in, or goes out
			continue
		}
		known := slices.ContainsFunc(slices.Concat(c.Flags, root.Flags), func(f cli.Flag) bool { return slices.Contains(f.Names(), name) })
		assert.True(t, known, "%s: there is no option %s", line, word)
	}
}
