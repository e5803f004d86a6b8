package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

var (
	codeBlock  = regexp.MustCompile("(?ms)^ *```([a-z]*)\n(.*?)^ *```")
	inlineCode = regexp.MustCompile("`nexocumula ([^`\n]+)`")
	shellWord  = regexp.MustCompile(`\$\([^)]*\)|'[^']*'|"(?:[^"\\]|\\.)*"|[^\s'"]+`)
)

// commandLines returns what documents write behind the program's name.
func commandLines(text string) (out []string) {
	for _, m := range inlineCode.FindAllStringSubmatch(text, -1) {
		out = append(out, m[1])
	}
	for _, m := range codeBlock.FindAllStringSubmatch(text, -1) {
		if m[1] == "text" {
			continue // what a terminal shows, mistakes too
		}
		block := strings.ReplaceAll(m[2], "\\\n", " ")
		for _, line := range strings.Split(block, "\n") {
			_, after, ok := strings.Cut(strings.Replace(line, "-u nexocumula ", "-u itself ", 1), "nexocumula ")
			if strings.HasPrefix(after, "… is running") {
				continue
			}
			before, _, _ := strings.Cut(line, "nexocumula ")
			before = strings.TrimSpace(before)
			if ok && (before == "" || before == "$" || strings.HasPrefix(before, "sudo") || strings.HasSuffix(before, "build/")) {
				out = append(out, after)
			}
		}
	}
	return out
}

// shellWords splits a line as a shell does, up to where another command or a file begins.
func shellWords(line string) (out []string) {
	joined := ""
	last := 0
	flush := func() {
		if joined != "" {
			out = append(out, joined)
		}
		joined = ""
	}
	for _, at := range shellWord.FindAllStringIndex(line, -1) {
		word := line[at[0]:at[1]]
		if at[0] > last {
			flush()
		}
		if at[0] > last || last == 0 {
			if strings.HasPrefix(word, "#") || word == "|" || word == ">" || word == ">>" || word == "&&" || word == "<" || word == "&" {
				return out
			}
		}
		last = at[1]
		if word[0] == '\'' || word[0] == '"' {
			word = word[1 : len(word)-1]
		}
		joined += word
	}
	flush()
	return out
}

// Every command that a document, the console or a message shows is one that there is, with its options and as many
// arguments as it takes.
func TestDocumentsShowCommandsThatThereAre(t *testing.T) {
	files := []string{"../../README.md", "../../SECURITY.md", "../../CONTRIBUTING.md", "../../deploy/nexocumula@.service"}
	more, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	seen := 0
	for _, file := range append(files, more...) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, line := range commandLines(string(text)) {
			words := shellWords(strings.TrimRight(line, "…"))
			if len(words) == 0 {
				continue
			}
			seen++
			var out bytes.Buffer
			root := rootCommand([]string{"nexocumula"}, "test", &out, &out)
			require.NoError(t, root.Walk(func(c *cli.Command) error {
				c.Action = func(_ context.Context, cmd *cli.Command) error {
					mentioned := len(cmd.Args().Slice()) == 0 && len(words) < 4 // a name in a text has no arguments
					if mentioned && len(cmd.Commands) > 0 {
						return nil
					}
					if err := checkArguments(cmd); err != nil && !mentioned {
						return err
					}
					return nil
				}
				for _, f := range c.Flags {
					if text, ok := f.(*cli.StringFlag); ok { // no file or profile is there; commands share some
						required, validator := text.Required, text.Validator
						text.Required, text.Validator = false, nil
						t.Cleanup(func() { text.Required, text.Validator = required, validator })
					}
				}
				return nil
			}))
			assert.NoError(t, root.Run(t.Context(), append([]string{"nexocumula"}, words...)), "%s: nexocumula %s", file, line)
		}
	}
	assert.Greater(t, seen, 100)
}

// The one list of environment variables has each that the program reads, and no other.
func TestTheListOfEnvironmentVariablesIsWhole(t *testing.T) {
	page, err := os.ReadFile("../../docs/command-line.md")
	require.NoError(t, err)
	_, section, _ := strings.Cut(string(page), "## Environment")
	section, _, _ = strings.Cut(section, "\n## ")
	listed := map[string]bool{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([A-Z_]+)` \\|").FindAllStringSubmatch(section, -1) {
		listed[m[1]] = true
	}
	read := map[string]bool{"XDG_CONFIG_HOME": true, "TZ": true} // by the library; by nobody
	names := regexp.MustCompile(`(?:Getenv|LookupEnv|EnvVars)\("([A-Z_]+)"\)`)
	require.NoError(t, filepath.WalkDir("..", func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "sourcetest") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range names.FindAllStringSubmatch(string(text), -1) {
			read[m[1]] = true
		}
		return err
	}))
	assert.Equal(t, read, listed)
}
