package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/kinds"
	"nexocumula/internal/service"
)

// guarded returns a central at which everybody has to log in, and a home in which nobody is.
func guarded(t *testing.T) (at, code string) {
	t.Helper()
	t.Setenv("HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(t.TempDir(), "config"))
	t.Setenv("NEXOCUMULA_TOKEN", "")
	settings, err := config.Parse("central.yaml",
		[]byte("data: "+t.TempDir()+"\nlisten: 127.0.0.1:0\naccess: { login: required }\ncentral: { accept: [] }\n"),
		kinds.All)
	require.NoError(t, err)
	s, err := service.Open(settings, "test", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	code, err = s.FirstCode()
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	t.Cleanup(func() { stop(); assert.NoError(t, <-ended) })
	return s.Address, code
}

// answered runs a command that reads lines.
func answered(t *testing.T, lines string, args ...string) (out, errOut string, code int) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "lines")
	require.NoError(t, os.WriteFile(file, []byte(lines), 0o600))
	in, err := os.Open(file)
	require.NoError(t, err)
	defer in.Close()
	before := os.Stdin
	os.Stdin = in
	defer func() { os.Stdin = before }()
	var o, e bytes.Buffer
	code = Run(t.Context(), append([]string{"nexocumula"}, args...), "v-test", &o, &e)
	return o.String(), e.String(), code
}

var aCode = regexp.MustCompile(`[a-z0-9]{5}(-[a-z0-9]{5}){3}`)

func TestWhoMayDoWhatByCommandLine(t *testing.T) {
	at, code := guarded(t)
	at = "--at=" + at
	does := func(says string, args ...string) string {
		t.Helper()
		out, errOut, code := typed(t, append(args, at)...)
		require.Zero(t, code, "%v: %s", args, errOut)
		assert.Contains(t, out, says, args)
		return out
	}
	fails := func(want int, says string, args ...string) {
		t.Helper()
		_, errOut, code := typed(t, append(args, at)...)
		assert.Equal(t, want, code, "%v: %s", args, errOut)
		assert.Contains(t, errOut, says, args)
	}
	fails(exitRefused, "log in first", "user", "list")
	_, errOut, status := answered(t, "", "login", "--account", "warden", at)
	assert.Equal(t, exitFailed, status)
	assert.Contains(t, errOut, "read from standard input")
	out, errOut, status := answered(t, code+"\nfour words of trout\n", "login", "--code", "--account", "warden", at)
	require.Zero(t, status, errOut)
	assert.Contains(t, out, "as warden (administrator)")

	made := does("good for 7 days", "user", "add", "ranger", "--role", "engineer", "--sees", "stony-beck/#", "--sees",
		"+/+/oxygen")
	assert.Regexp(t, aCode, made)
	fails(exitRefused, "there is an account", "user", "add", "ranger")
	fails(exitRefused, `"poet" is no role`, "user", "add", "x", "--role", "poet")
	fails(exitUsage, "user add needs NAME", "user", "add")
	fails(exitUsage, "say what changes", "user", "change", "ranger")
	does("ranger is viewer, sees stony-beck/# +/+/oxygen, and is locked", "user", "change", "ranger", "--role",
		"viewer", "--lock")
	does("ranger is viewer, sees everything.", "user", "change", "ranger", "--sees", "#", "--lock=false")
	does("ranger", "user", "list")
	var all client.Accounts
	require.NoError(t, json.Unmarshal([]byte(does("", "user", "list", "-o", "json")), &all))
	require.Len(t, all.Accounts, 2)
	assert.Equal(t, []any{"ranger", false, 0},
		[]any{all.Accounts[0].Name, all.Accounts[0].Password, all.Accounts[0].Sessions})
	assert.Regexp(t, aCode, does("sets the password", "user", "code", "ranger"))
	does("have ended", "user", "logout", "ranger")
	does("was removed", "user", "remove", "ranger")
	fails(exitRefused, "there is no account", "user", "remove", "ranger")
	fails(exitRefused, "the last administrator", "user", "remove", "warden")

	secret := strings.TrimSpace(does("nxt_", "token", "add", "report", "--role", "operator", "--ends", "1h"))
	fails(exitUsage, "--ends", "token", "add", "x", "--ends", "soon")
	fails(exitUsage, "token add needs NAME", "token", "add")
	rows, err := csv.NewReader(strings.NewReader(does("", "token", "list", "-o", "csv"))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"name", "role", "sees", "ends", "last_used", "from", "made_by"}, rows[0])
	assert.Equal(t, []string{"report", "operator", ""}, rows[1][:3])
	file := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(file, []byte(secret+"\n"), 0o600))
	does("is pinned to stony-beck/raceway-1 at 2026-03-01T08:00:00Z", "--token-file", file, "note", "add",
		"stony-beck/raceway-1", "probe cleaned", "--time", "2026-03-01T08:00:00Z")
	does("probe cleaned", "--token-file", file, "note", "list", "stony-beck/#")
	fails(exitRefused, "has the role operator", "--token-file", file, "token", "list")
	fails(exitUsage, "the token in", "--token-file", file+"-none", "now")
	fails(exitUsage, "write one such as", "note", "add", "stony-beck", "x", "--time", "noon")
	fails(exitUsage, "no number of a note", "note", "remove", "first")
	does("was taken away", "note", "remove", "1")
	does("No note is about this", "note", "list")
	does("was revoked", "token", "remove", "report")

	does("for one use, good until", "gateway", "add", "long-mere", "--site", "alder-weir")
	does("No gateway was enrolled", "gateway", "list")
	does("may send no more", "gateway", "remove", "long-mere")
	fails(exitRefused, "is enrolled", "gateway", "remove", "long-mere")

	does("accounts.remove", "audit", "list", "--action", "accounts")
	does("No entry is as you ask", "audit", "list", "--who", "nobody-at-all", "--last", "1h")
	fails(exitUsage, "--last", "audit", "list", "--last", "soon")
	fails(exitUsage, "there are list, verify", "audit", "check")
	does("Every entry is there", "audit", "verify")
	var verified client.AuditVerified
	require.NoError(t, json.Unmarshal([]byte(does("", "audit", "verify", "-o", "json")), &verified))
	assert.Empty(t, verified.Problems)

	does("Logged out", "logout")
	fails(exitFailed, "not logged in", "logout")
	fails(exitRefused, "log in first", "now")
	_, errOut, status = answered(t, "warden\na wrong password\n", "login", at)
	assert.Equal(t, exitRefused, status)
	assert.Contains(t, errOut, "is wrong")
	token := filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "nexocumula", "profiles.json")
	require.NoError(t, os.WriteFile(token, []byte("{"), 0o600))
	fails(exitRefused, "reading the profiles in "+token, "now")
	t.Setenv("NEXOCUMULA_TOKEN", secret)
	fails(exitRefused, "it may have been revoked", "now")
}

func TestACertificateIsMadeOnce(t *testing.T) {
	dir := t.TempDir()
	first, _, code := typed(t, "certificate", "--dir", dir, "--host", "pump-house.example")
	require.Zero(t, code)
	assert.Contains(t, first, filepath.Join(dir, "own-cert.pem"))
	again, _, _ := typed(t, "certificate", "--dir", dir)
	assert.Equal(t, first, again)
	_, errOut, code := typed(t, "certificate", "--dir", "/dev/null/x")
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errOut, "making a certificate")
}

func TestWhatCannotJoinSaysWhy(t *testing.T) {
	dir := t.TempDir()
	write := func(uplinks string) string {
		file := filepath.Join(dir, "gateway.yaml")
		require.NoError(t,
			os.WriteFile(file, []byte("data: "+dir+"\ngateway: { site: long-mere, uplinks: ["+uplinks+"] }\n"), 0o600))
		return file
	}
	t.Setenv("TROUT", "shared")
	for uplinks, says := range map[string]string{
		"": "has no uplink without a secret",
		`{ name: a, address: "https://a:1", secret_env: TROUT }`:                   "has no uplink without a secret",
		`{ name: a, address: "https://a:1" }, { name: b, address: "https://b:1" }`: "several uplinks have no secret: a, b; name one with --uplink",
		`{ name: a, address: "http://10.0.0.1:1" }`:                                "everybody on the way could read the credential",
	} {
		_, errOut, code := typed(t, "join", "--config", write(uplinks))
		assert.Equal(t, exitUsage, code, uplinks)
		assert.Contains(t, errOut, says, uplinks)
	}
	_, errOut, code := typed(t, "join", "--uplink", "c", "--config", write(`{ name: a, address: "https://a:1" }`))
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errOut, `no uplink "c" without a secret`)
	_, errOut, code = typed(t, "recover", "--config", write(""))
	assert.Equal(t, exitFailed, code)
	assert.Contains(t, errOut, "there are no accounts yet")
}
