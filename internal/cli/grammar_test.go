package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"

	"nexocumula/client"
)

// tree is every command, by its name.
func tree(t *testing.T) map[string]*cli.Command {
	root := rootCommand([]string{"nexocumula"}, "test", &bytes.Buffer{}, &bytes.Buffer{})
	require.NoError(t, root.Run(t.Context(), []string{"nexocumula", "version"})) // it adds what is the library's
	out := map[string]*cli.Command{}
	require.NoError(t, root.Walk(func(c *cli.Command) error { out[below(c)] = c; return nil }))
	return out
}

// A noun's verbs are the same everywhere, and mean the same.
func TestNounsHaveTheSameVerbs(t *testing.T) {
	verbs := map[string]string{
		"list": "List ", "show": "Show ", "remove": "Delete |Revoke |Forget ", "history": "List the ",
		"add": "Pin |Make |Let ", "change": "Change ", "export": "Write ", "import": "Save ",
	}
	commands := tree(t)
	for name, c := range commands {
		noun, verb, below := strings.Cut(name, " ")
		if begins, known := verbs[verb]; below && known {
			assert.Regexp(t, "^("+begins+")", c.Usage, name)
		}
		if len(c.Commands) > 0 && !slices.Contains([]string{"", "simulate", "completion", "demo"}, noun) {
			assert.True(t, slices.ContainsFunc(c.Commands, func(c *cli.Command) bool { return c.Name == "list" }),
				"%s has no list", name)
			assert.False(t, strings.HasSuffix(noun, "s") && noun != "series", "%s: nouns are singular", noun)
		}
	}
}

// Each name of an option means one thing: what its help begins with.
func TestOptionsHaveOneMeaning(t *testing.T) {
	meaning := map[string]string{}
	ends := regexp.MustCompile(`[;,:(].*|\bdefault\b.*`)
	for name, c := range tree(t) {
		for _, f := range c.Flags {
			option := f.Names()[0]
			says := strings.TrimSpace(ends.ReplaceAllString(f.(cli.DocGenerationFlag).GetUsage(), ""))
			if before, known := meaning[option]; known {
				assert.Equal(t, before, says, "--%s of %s", option, name)
			}
			meaning[option] = says
			if f.(cli.DocGenerationFlag).IsDefaultVisible() {
				assert.NotEqual(t, "0", f.(cli.DocGenerationFlag).GetValue(), "--%s of %s", option, name)
			}
		}
	}
}

func TestMistakesSayWhatThereIs(t *testing.T) {
	commands := tree(t)
	for name, c := range commands {
		if len(c.Commands) == 0 || name == "" {
			continue
		}
		_, errOut, code := typed(t, append(strings.Fields(name), "frobnicate", "--at=127.0.0.1:1")...)
		assert.Equal(t, exitUsage, code, name)
		assert.Contains(t, errOut, `there is no command "`+name+` frobnicate"`)
		assert.Contains(t, errOut, "Usage: nexocumula "+name)
	}
	for name, c := range commands {
		if _, most := arity(c.ArgsUsage); len(c.Commands) > 0 || most > 9 {
			continue
		}
		_, errOut, code := typed(t, append(strings.Fields(name), slices.Repeat([]string{"x"}, 9)...)...)
		assert.Equal(t, exitUsage, code, name)
		if !slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { r, ok := f.(cli.RequiredFlag); return ok && r.IsRequired() }) {
			assert.Contains(t, errOut, `"x" is too much`, name)
		}
		assert.Contains(t, errOut, "Help:  nexocumula help "+name)
	}
	for line, says := range map[string]string{
		"windws":                 `there is no command "windws"; did you mean "windows"?`,
		"user lst":               `there is no command "user lst"; did you mean "user list"?`,
		"now --lable depth=3m":   "there is no option --lable; did you mean --label?",
		"now a b c":              `now takes [SELECTOR]; "b" is too much`,
		"note add stony-beck":    "note add needs PLACE TEXT",
		"run":                    "run needs --config",
		"help windws":            `did you mean "windows"?`,
		"help note ad":           `did you mean "note add"?`,
		"import -":               "it needs a file; with --topic, - is standard input",
		"now --at pumphuose":     `"pumphuose" is neither an address, such as 10.0.3.7:8460, nor a profile`,
		"now --at ftp://x":       "write http://host:port",
		"completion powershell":  "there are bash, zsh, fish",
		"login --save-as 'A B'":  "use small letters",
		"now --follow --label a": "--follow goes without --label",
	} {
		_, errOut, code := typed(t, strings.Fields(line)...)
		assert.Equal(t, exitUsage, code, line)
		assert.Contains(t, errOut, says, line)
	}
	for form, want := range map[string][2]int{
		"": {0, 0}, "NAME": {1, 1}, "[A]": {0, 1}, "A B [C]": {2, 3}, "[A B [C]]": {0, 3}, "A | B": {1, 1},
	} {
		least, most := arity(form)
		assert.Equal(t, want, [2]int{least, most}, form)
	}
	least, most := arity("FILE ...")
	assert.Equal(t, 1, least)
	assert.Greater(t, most, 1000)
}

func TestErrorsAreJSONWhereAnswersAre(t *testing.T) {
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("data: d\ngateway:\n  sit: x\n"), 0o600))
	for line, want := range map[string]failed{
		"now a b -o json":                       {Code: "usage", Exit: exitUsage},
		"now --output=json --at 127.0.0.1:1":    {Code: "unreached", Exit: exitNoReach},
		"check -o json " + bad:                  {Code: "configuration", Exit: exitUsage},
		"certificate -o json --dir /dev/null/x": {Code: "failed", Exit: exitFailed},
	} {
		out, errOut, code := typed(t, strings.Fields(line)...)
		assert.Empty(t, out, line)
		assert.Equal(t, want.Exit, code, line)
		var got failure
		require.NoError(t, json.Unmarshal([]byte(errOut), &got), "%s: %s", line, errOut)
		assert.Equal(t, want, failed{Code: got.Error.Code, Exit: got.Error.Exit}, line)
		assert.NotEmpty(t, got.Error.Message, line)
		assert.Equal(t, want.Code == "configuration", len(got.Error.Details) > 0)
	}
}

// Facts are there for scripts too, whatever command says them.
func TestFactsAreThereAsJSON(t *testing.T) {
	at, code := guarded(t)
	_, errOut, status := answered(t, code+"\nfour words of trout\n", "login", "--code", "--account", "warden", "--at", at,
		"--save-as", "pumphouse")
	require.Zero(t, status, errOut)
	of := func(args ...string) (out map[string]any) {
		t.Helper()
		text, errOut, code := typed(t, append(args, "-o", "json", "--at", "pumphouse")...)
		require.Zero(t, code, errOut)
		require.NoError(t, json.Unmarshal([]byte(text), &out), text)
		return out
	}
	assert.Regexp(t, aCode, of("user", "add", "ranger")["code"])
	assert.Equal(t, "ranger", of("user", "remove", "ranger")["name"])
	assert.Regexp(t, aCode, of("gateway", "add", "list")["code"], "a site may have the name of a verb")
	assert.Regexp(t, "^nxt_", of("token", "add", "report")["secret"])
	assert.Equal(t, "stony-beck", of("note", "add", "stony-beck", "screen cleaned")["about"])
	assert.EqualValues(t, 1, of("audit", "verify")["first"])
	_, errOut, _ = typed(t, "note", "add", "stony-beck", "again", "--at", "pumphouse", "--quiet")
	assert.Empty(t, errOut)
	_, errOut, _ = typed(t, "note", "list", "--at", "pumphouse", "--verbose")
	assert.Regexp(t, `level=DEBUG msg=request method=GET url=http://\S+/notes\?? took=\S+ status=200`, errOut)
	out, _, _ := typed(t, "note", "list", "--at", "pumphouse", "--zone", "Asia/Kolkata")
	assert.Contains(t, out, "+05:30")

	bare := strings.TrimPrefix(at, "http://")
	_, errOut, status = typed(t, "note", "list", "--at", bare)
	assert.Zero(t, status, "an address does without its scheme: %s", errOut)
	var kept []keptProfile
	out, _, _ = typed(t, "profile", "list", "-o", "json")
	require.NoError(t, json.Unmarshal([]byte(out), &kept))
	assert.Equal(t, []keptProfile{{"pumphouse", at, true, ""}}, kept)
	_, errOut, _ = typed(t, "profile", "remove", "pumphouse")
	assert.Contains(t, errOut, "nexocumula logout --at pumphouse ends that first")
	_, _, status = typed(t, "logout", "--at", "pumphouse")
	require.Zero(t, status)
	out, _, _ = typed(t, "profile", "remove", "pumphouse")
	assert.Contains(t, out, "was forgotten")
	_, errOut, _ = typed(t, "now", "--at", "pumphouse")
	assert.Contains(t, errOut, "there are no profiles")
	out, _, _ = typed(t, "key", "list", "json", "-o", "json")
	var keys []partKey
	require.NoError(t, json.Unmarshal([]byte(out), &keys))
	assert.Equal(t, "json", keys[0].Part)
}

// What shells complete with, and the page of man, come from the same commands.
func TestShellsAndManKnowTheCommands(t *testing.T) {
	page, errOut, code := typed(t, "man")
	require.Zero(t, code, errOut)
	for name := range tree(t) {
		last := name[strings.LastIndex(name, " ")+1:]
		assert.Contains(t, page, last, name)
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		out, _, code := typed(t, "completion", shell)
		assert.Zero(t, code)
		assert.Contains(t, out, "nexocumula")
	}
	completed := func(line ...string) []string {
		out, errOut, code := typed(t, append(line, "--generate-shell-completion")...)
		require.Zero(t, code, errOut)
		return strings.Split(strings.TrimSpace(out), "\n")
	}
	assert.Contains(t, completed("note"), "add:Pin a note to a site, a station or a series")
	assert.Contains(t, strings.Join(completed("windows", "--wi"), "\n"), "--width:width of a window")
	at, _ := guarded(t)
	assert.Equal(t, []string{""}, completed("windows", "--at", at), "nobody is logged in, so there are no names")
	assert.Equal(t, []string{"BOARD", "PLACE"}, formsAt("BOARD | PLACE", 0))
	assert.Equal(t, []string{"SELECTOR"}, formsAt("[SELECTOR ...]", 3))
	assert.Equal(t, []string{"TIME"}, formsAt("SELECTOR TIME", 1))
	assert.Nil(t, formsAt("SELECTOR TIME", 2))
}

func TestNamesForShells(t *testing.T) {
	c := client.New("http://127.0.0.1:1")
	for form, list := range names {
		found, err := list(t.Context(), c)
		assert.Empty(t, found, form)
		assert.Equal(t, form != "PROFILE", err != nil, form)
	}
}

// In a shell, where systemd hands nothing over, the folder of its credentials is named.
func TestCredentialsAreNamedInAShell(t *testing.T) {
	t.Setenv("CREDENTIALS_DIRECTORY", "")
	dir := t.TempDir()
	file := filepath.Join(dir, "gateway.yaml")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "uplink"), []byte("salmon run at dawn"), 0o600))
	require.NoError(t, os.WriteFile(file, []byte("data: "+dir+"\ngateway: { site: long-mere, uplinks: [{ name: head-office, "+
		"address: \"http://127.0.0.1:1\", secret_credential: uplink }] }\n"), 0o600))
	_, errOut, code := typed(t, "check", file)
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errOut, "in a shell their folder with --credentials")
	out, errOut, code := typed(t, "check", file, "--credentials", dir)
	assert.Zero(t, code, errOut)
	assert.Contains(t, out, "good: gateway of long-mere")
}
