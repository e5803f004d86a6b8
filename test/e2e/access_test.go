package e2e

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/certs"
)

const guardedCentral = `
data: %[1]s/central
listen: 0.0.0.0:0
tls: { self_signed: true }
central: { accept: [] }
`

const joiningGateway = `
data: %[1]s/%[2]s
listen: 127.0.0.1:0
gateway:
  site: %[2]s
  sources:
    - name: own
      mqtt_listener: { address: "127.0.0.1:%[3]s", messages: [{ topic: "s/{n}", payload: number, series: "{n}/level" }] }
  uplinks: [{ name: head-office, address: "%[4]s" }]
`

// person is somebody at a command line, with a home of his own.
type person struct {
	t       *testing.T
	home    string
	program string
	at      string
}

func newPerson(t *testing.T, at string) person {
	t.Helper()
	program, err := binary()
	require.NoError(t, err)
	return person{t, t.TempDir(), program, at}
}

func (p person) command(args ...string) *exec.Cmd {
	ctx, stop := context.WithTimeout(context.Background(), patience)
	p.t.Cleanup(stop)
	cmd := exec.CommandContext(ctx, p.program, args...)
	cmd.Env = append(os.Environ(), "HOME="+p.home, "XDG_CONFIG_HOME="+p.home, "NEXOCUMULA_AT="+p.at)
	return cmd
}

// run gives lines to a command, and is what it says and whether it worked.
func (p person) run(input string, args ...string) (string, error) {
	p.t.Helper()
	cmd := p.command(args...)
	cmd.Stdin = strings.NewReader(input)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

func (p person) does(input string, args ...string) string {
	p.t.Helper()
	out, err := p.run(input, args...)
	require.NoError(p.t, err, "%v: %s", args, out)
	return out
}

// refused runs a command that must fail, and returns its message.
func (p person) refused(input string, args ...string) string {
	p.t.Helper()
	out, err := p.run(input, args...)
	require.Error(p.t, err, "%v: %s", args, out)
	return out
}

var codes = regexp.MustCompile(`(?m)^  ([a-z0-9]{5}(?:-[a-z0-9]{5}){3})$`)

func codeIn(t *testing.T, text string) string {
	t.Helper()
	found := codes.FindStringSubmatch(text)
	require.NotNil(t, found, text)
	return found[1]
}

// guarded starts a central that other machines could reach; its first administrator is logged in.
func guarded(t *testing.T, dir string) (p *process, address string, warden person) {
	t.Helper()
	p, service := service(t, dir, "central", fmt.Sprintf(guardedCentral, dir))
	_, port, err := net.SplitHostPort(strings.TrimPrefix(service.Base(), "https://"))
	require.NoError(t, err)
	address = "https://127.0.0.1:" + port
	eventually(t, "the code is printed", func() bool { return codes.MatchString(p.output.String()) })
	warden = newPerson(t, address)
	out := warden.does(codeIn(t, p.output.String())+"\nfour words of trout\n", "--trust", shown(t, address), "login",
		"--code", "--account", "warden")
	assert.Contains(t, out, "as warden (administrator)")
	return p, address, warden
}

// shown returns the fingerprint of the certificate that is shown at an address.
func shown(t *testing.T, address string) string {
	t.Helper()
	conn, err := tls.Dial("tcp", strings.TrimPrefix(address, "https://"), &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	defer conn.Close()
	return certs.Fingerprint(conn.ConnectionState().PeerCertificates[0].Raw)
}

// From a fresh central to who may do what, all by command line.
func TestACentralThatOthersReachIsForThoseItIsFor(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	central, address, warden := guarded(t, dir)
	fingerprint := shown(t, address)
	assert.Contains(t, central.output.String(), fingerprint, "it is printed at the start")

	// Nobody gets in without a login, and nobody trusts it without having looked.
	stranger := newPerson(t, address)
	assert.Contains(t, stranger.refused("", "now"), "Compare its fingerprint once with nexocumula login")
	assert.Contains(t, stranger.refused("", "--trust", fingerprint, "now"), "log in first")
	assert.Contains(t, stranger.refused("", "login"), "without a terminal, give the fingerprint with --trust")
	assert.Contains(t,
		stranger.refused("warden\nfour words of trout\n", "--trust", strings.Repeat("AB:", 31)+"AB", "login"),
		"another certificate than before")

	// A gateway waits, says why, and joins over a connection that it pins.
	port := freePort(t)
	_, gateway := service(t, dir, "long-mere", fmt.Sprintf(joiningGateway, dir, "long-mere", port, address))
	publish(t, port, "s/buoy-1", []string{"4.5"}, "-q", "1")
	waits := func(why string) func() bool {
		return func() bool {
			u, err := gateway.Uplinks(t.Context())
			return err == nil && len(u.Sending) == 1 && strings.Contains(u.Sending[0].LastError, why)
		}
	}
	eventually(t, "it says what to do", waits("run nexocumula gateway add long-mere there"))
	enrolment := warden.does("", "gateway", "add", "long-mere")
	assert.Contains(t, enrolment, fingerprint)
	technician := newPerson(t, address)
	config := filepath.Join(dir, "long-mere.yaml")
	assert.Contains(t, technician.refused(codeIn(t, enrolment)+"\n", "join", "--config", config),
		"Compare it with the one", "nothing is sent before a person said yes")
	assert.Contains(t,
		technician.refused("aaaaa-aaaaa-aaaaa-aaaaa\n", "--trust", fingerprint, "join", "--config", config),
		"not known here")
	asked := technician.typed([]string{"join", "--config", config}, "Is it the same? yes/no: ", "yes", "Code: ",
		codeIn(t, enrolment))
	assert.Contains(t, asked, "has joined", asked)
	eventually(t, "the central has what it collected", func() bool {
		out, err := warden.run("", "now")
		return err == nil && strings.Contains(out, "long-mere/buoy-1/level")
	})
	credential := filepath.Join(dir, "long-mere", "uplinks", "head-office.json")
	about, err := os.Stat(credential)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), about.Mode().Perm())

	// A second site, for those who may not see it.
	other := freePort(t)
	service(t, dir, "stony-beck", fmt.Sprintf(joiningGateway, dir, "stony-beck", other, address))
	technician.does(codeIn(t, warden.does("", "gateway", "add", "stony-beck"))+"\n", "--trust", fingerprint, "join", "--config",
		filepath.Join(dir, "stony-beck.yaml"))
	publish(t, other, "s/inlet", []string{"1.5"}, "-q", "1")
	eventually(t, "both are there", func() bool {
		out, err := warden.run("", "now")
		return err == nil && strings.Contains(out, "stony-beck/inlet/level")
	})

	// A viewer of one site.
	viewer := newPerson(t, address)
	viewer.does(codeIn(t, warden.does("", "user", "add", "ranger", "--sees", "stony-beck/#"))+"\nwords of the ranger\n",
		"--trust", fingerprint, "login", "--code")
	assert.Contains(t, viewer.does("", "now"), "stony-beck/inlet/level")
	for _, args := range [][]string{{"now"}, {"series", "list"}, {"uplink", "list"}, {"windows", "#", "--stats", "count"}} {
		assert.NotContains(t, viewer.does("", args...), "long-mere", args)
	}
	assert.NotContains(t, viewer.refused("", "now", "lang-mere/buoy-1/level"), "long-mere")
	assert.Contains(t, viewer.refused("", "reject", "list"), "this is for the role engineer; ranger has the role viewer")
	assert.Contains(t, viewer.refused("", "user", "list"), "this is for the role administrator")
	assert.Contains(t, viewer.refused("", "gateway", "add", "long-mere"), "this is for the role administrator")

	// An operator of that site notes what he did, there and not elsewhere.
	operator := newPerson(t, address)
	operator.does(codeIn(t, warden.does("", "user", "add", "gill", "--role", "operator", "--sees", "stony-beck/#"))+"\nwords of the operator\n",
		"--trust", fingerprint, "login", "--code")
	assert.Contains(t, operator.does("", "note", "add", "stony-beck/inlet", "screen cleaned"),
		"is pinned to stony-beck/inlet")
	assert.Contains(t, operator.refused("", "note", "add", "long-mere", "screen cleaned"), "not all yours to see")
	assert.Contains(t, viewer.does("", "note", "list"), "screen cleaned")
	assert.Contains(t, viewer.refused("", "note", "add", "stony-beck/inlet", "me too"),
		"this is for the role operator")

	// An engineer's token ends by itself.
	token := strings.TrimSpace(lastLine(warden.does("", "token", "add", "report", "--role", "engineer", "--ends", "3s")))
	script := newPerson(t, address)
	file := filepath.Join(script.home, "token")
	require.NoError(t, os.WriteFile(file, []byte(token+"\n"), 0o644))
	assert.Contains(t, script.refused("", "--trust", fingerprint, "--token-file", file, "now"), "chmod 640")
	require.NoError(t, os.Chmod(file, 0o600))
	eventually(t, "the token is over", func() bool {
		out, err := script.run("", "--trust", fingerprint, "--token-file", file, "reject", "list")
		return err != nil && strings.Contains(out, "the token report ended on")
	})
	steady := strings.TrimSpace(lastLine(warden.does("", "token", "add", "steady", "--role", "engineer")))
	require.NoError(t, os.WriteFile(file, []byte(steady+"\n"), 0o600))
	assert.Contains(t, script.does("", "--trust", fingerprint, "--token-file", file, "reject", "list"), "Nothing was refused")
	assert.Regexp(t, `steady .* 127\.0\.0\.1`, warden.does("", "token", "list"), "from where it was used")

	// The credential is renewed by itself when it has become old.
	rewrite(t, credential, func(c map[string]any) {
		c["since"] = time.Now().Add(-31 * 24 * time.Hour).UTC().Format(time.RFC3339)
	})
	before := secretIn(t, credential)
	publish(t, port, "s/buoy-1", []string{"4.6"}, "-q", "1")
	eventually(t, "it is renewed", func() bool { return secretIn(t, credential) != before })
	publish(t, port, "s/buoy-2", []string{"4.7"}, "-q", "1")
	eventually(t, "and counts", func() bool {
		out, err := warden.run("", "audit", "list", "--action", "gateways.renew")
		return err == nil && strings.Contains(out, "long-mere")
	})

	// One that is revoked keeps what it has, says why it waits, and sends it all when it is enrolled anew.
	warden.does("", "gateway", "remove", "long-mere")
	publish(t, port, "s/buoy-3", []string{"4.8"}, "-q", "1")
	eventually(t, "it says why it waits", waits("it was revoked on"))
	assert.NotContains(t, warden.does("", "uplink", "list"), "long-mere", "nobody waits for it at the central")
	assert.Contains(t, warden.does("", "audit", "list", "--action", "replication", "--caller", "127.0.0.1"), "refused")
	eventually(t, "and keeps what it collects", func() bool {
		u, err := gateway.Uplinks(t.Context())
		return err == nil && u.Sending[0].BacklogRows > 0
	})
	technician.does(codeIn(t, warden.does("", "gateway", "add", "long-mere"))+"\n", "--trust", fingerprint, "join", "--config",
		config)
	eventually(t, "all of it comes", func() bool {
		out, err := warden.run("", "now")
		return err == nil && strings.Contains(out, "long-mere/buoy-3/level")
	})

	// All of it is in the audit, which is whole, and stays so over a kill.
	audit := warden.does("", "audit", "list", "--limit", "500")
	for _, wanted := range []string{
		"accounts.redeem", "gateways.join", "gateways.revoke", "tokens.add", "notes.add", "rejects", "refused",
	} {
		assert.Contains(t, audit, wanted)
	}
	assert.Contains(t, warden.does("", "audit", "verify"), "Every entry is there")
	assert.Contains(t, warden.does("", "logout"), "Logged out")
	assert.Contains(t, warden.refused("", "now"), "log in first")
	assert.Contains(t, warden.does("warden\nfour words of trout\n", "login"), "as warden")

	// None of the secrets is in what the service says.
	for _, secret := range []string{
		"four words of trout", "words of the ranger", token, before, secretIn(t, credential),
	} {
		assert.NotContains(t, central.output.String(), secret)
		assert.NotContains(t, audit, secret)
	}
}

// typed runs a command at a terminal, and answers what it asks: prompts and answers in turn.
func (p person) typed(args []string, asked ...string) string {
	p.t.Helper()
	need(p.t, "script")
	quoted := "'" + p.program + "' '" + strings.Join(args, "' '") + "'"
	cmd := exec.Command("script", "-qec", quoted, "/dev/null")
	cmd.Env = p.command().Env
	in, err := cmd.StdinPipe()
	require.NoError(p.t, err)
	out := &lockedBuffer{}
	cmd.Stdout, cmd.Stderr = out, out
	require.NoError(p.t, cmd.Start())
	ended := make(chan struct{})
	go func() {
		_ = cmd.Wait()
		close(ended)
	}()
	p.t.Cleanup(func() {
		_ = cmd.Process.Kill()
		<-ended
	})
	for i := 0; i < len(asked); i += 2 {
		eventually(p.t, "it asks: "+asked[i], func() bool { return strings.Contains(out.String(), asked[i]) })
		_, err := io.WriteString(in, asked[i+1]+"\r")
		require.NoError(p.t, err)
	}
	select {
	case <-ended:
	case <-time.After(patience):
		require.Fail(p.t, "it does not end", out.String())
	}
	return out.String()
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return lines[len(lines)-1]
}

func secretIn(t *testing.T, file string) string {
	t.Helper()
	var c struct{ Secret string }
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &c))
	return c.Secret
}

func rewrite(t *testing.T, file string, change func(map[string]any)) {
	t.Helper()
	c := map[string]any{}
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &c))
	change(c)
	text, err = json.Marshal(c)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, text, 0o600))
}

// A service that others could reach does not start without TLS and a login, and says the two ways out.
func TestAServiceThatOthersReachDoesNotStartUnguarded(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := newPerson(t, "http://127.0.0.1:1")
	config := filepath.Join(dir, "central.yaml")
	bare := strings.Replace(fmt.Sprintf(guardedCentral, dir), "tls: { self_signed: true }\n", "", 1)
	require.NoError(t, os.WriteFile(config, []byte(bare), 0o600))
	out := p.refused("", "run", "--config", config)
	assert.Contains(t, out, "tls: { self_signed: true }")
	assert.Contains(t, out, "open: true")
	open, service := service(t, dir, "open", bare+"open: true\n")
	_, port, err := net.SplitHostPort(strings.TrimPrefix(service.Base(), "http://"))
	require.NoError(t, err)
	eventually(t, "it says that it is open", func() bool {
		return strings.Contains(open.output.String(), "whoever reaches it may do everything")
	})
	p.at = "http://127.0.0.1:" + port
	assert.Contains(t, p.does("", "series", "list"), "no series", "nobody has to log in")
	assert.Contains(t, p.refused("", "user", "list"), "log in first", "but nobody becomes an administrator unseen")
}

// Devices reach a listener by the service's own certificate, which they are given.
func TestDevicesTrustTheServicesOwnCertificate(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	p := newPerson(t, "http://127.0.0.1:1")
	out := p.does("", "certificate", "--dir", filepath.Join(dir, "long-mere"))
	files := regexp.MustCompile(`(?m)^(cert|key): (\S+)$`).FindAllStringSubmatch(out, -1)
	require.Len(t, files, 2, out)
	port := freePort(t)
	text := strings.Replace(fmt.Sprintf(joiningGateway, dir, "long-mere", port, "http://127.0.0.1:1"),
		`address: "127.0.0.1:`+port+`",`,
		`address: "127.0.0.1:`+port+`", tls: { cert: "`+files[0][2]+`", key: "`+files[1][2]+`" },`, 1)
	_, gateway := service(t, dir, "long-mere",
		strings.Replace(text, "listen: 127.0.0.1:0", "listen: 127.0.0.1:0\ntls: { self_signed: true }", 1))
	publish(t, port, "s/buoy-1", []string{"4.5"}, "-q", "1", "-h", "localhost", "--cafile", files[0][2])
	trusted, err := certs.Open(certs.Files{CA: files[0][2]})
	require.NoError(t, err)
	eventually(t, "it came, and the interface shows the same certificate", func() bool {
		now, err := client.Over(gateway.Base(), trusted.HTTP("")).Now(t.Context(), "")
		return err == nil && len(now.Values) == 1
	})
}

// Whoever has the right to the files gets in, whatever else was lost.
func TestWhoHasTheFilesGetsIn(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	_, _, warden := guarded(t, dir)
	code := codeIn(t, warden.does("", "recover", "--config", filepath.Join(dir, "central.yaml")))
	assert.Contains(t, warden.does(code+"\nquite another password\n", "login", "--code", "--account", "warden"),
		"as warden (administrator)")
	assert.Contains(t, warden.refused("warden\nfour words of trout\n", "login"), "is wrong")
	assert.Contains(t, warden.does("", "audit", "verify"), "Every entry is there", "with what another process wrote")
}

// What is sent that is no request, or never ends, takes nothing from those who come after.
func TestHostileRequestsAreTurnedAway(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	central, address, warden := guarded(t, dir)
	insecure := &http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}, Timeout: patience,
	}
	ask := func(method, path string, header http.Header, body io.Reader) (int, string, http.Header) {
		req, err := http.NewRequest(method, address+path, body)
		require.NoError(t, err)
		for k, v := range header {
			req.Header[k] = v
		}
		resp, err := insecure.Do(req)
		if err != nil {
			return 0, err.Error(), nil
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(text), resp.Header
	}
	json := http.Header{"Content-Type": {"application/json"}}

	// The headers of everything, and of a cookie.
	_, page, header := ask("GET", "/", nil, nil)
	assert.Contains(t, page, "<div id=\"root\">")
	assert.Regexp(t, `^default-src 'self';`, header.Get("Content-Security-Policy"))
	assert.NotContains(t, header.Get("Content-Security-Policy"), "script")
	assert.Empty(t, header.Get("Strict-Transport-Security"), "not for a certificate that nobody vouches for")
	_, _, header = ask("POST", "/api/v1/session", json,
		strings.NewReader(`{"account":"warden","password":"four words of trout"}`))
	assert.Regexp(t, `^__Host-nexocumula=nxs_\w+; Path=/; Expires=.*; HttpOnly; Secure; SameSite=Strict$`,
		header.Get("Set-Cookie"))
	cookie := strings.SplitN(header.Get("Set-Cookie"), ";", 2)[0]

	// Forged, changed and replayed cookies and tokens.
	status, _, _ := ask("GET", "/api/v1/now", http.Header{"Cookie": {cookie}}, nil)
	assert.Equal(t, 200, status)
	for _, forged := range []string{
		cookie + "A", strings.ToLower(cookie), "__Host-nexocumula=",
		"__Host-nexocumula=nxs_AAAAAAAAAAAAAAAAAAAAAAAAAA", strings.Replace(cookie, "__Host-", "", 1),
		"__Host-nexocumula=" + strings.Repeat("x", 5000),
	} {
		status, _, _ = ask("GET", "/api/v1/now", http.Header{"Cookie": {forged}}, nil)
		assert.Equal(t, 401, status, forged[:min(60, len(forged))])
	}
	status, _, _ = ask("POST", "/api/v1/reload",
		http.Header{"Cookie": {cookie}, "Origin": {"https://elsewhere.example"}}, nil)
	assert.Equal(t, 403, status, "a page of another site, with the cookie")
	status, _, _ = ask("DELETE", "/api/v1/session", http.Header{"Cookie": {cookie}}, nil)
	assert.Equal(t, 200, status)
	status, _, _ = ask("GET", "/api/v1/now", http.Header{"Cookie": {cookie}}, nil)
	assert.Equal(t, 401, status, "replayed after the logout")

	// Paths that try to get out, or around.
	for _, path := range []string{
		"/../access.db", "/..%2faccess.db", "/%2e%2e/central/access.db", "/assets/../../access.key",
		"/api/v1/../v1/now", "/api//v1/now", "/API/v1/now", "/api/v1/now/", "/api/v1/now%00", "/.%00/access.db",
	} {
		status, text, _ := ask("GET", path, nil, nil)
		assert.NotContains(t, text, "SQLite", path)
		assert.NotContains(t, text, `"values"`, path)
		assert.NotEqual(t, 500, status, path)
	}

	// Headers and bodies without end.
	status, _, _ = ask("GET", "/api/v1/now", http.Header{"X-Long": {strings.Repeat("x", 1<<20)}}, nil)
	assert.Contains(t, []int{0, 431}, status)
	status, _, _ = ask("POST", "/api/v1/session", json, io.LimitReader(endless{}, 8<<20))
	assert.Contains(t, []int{0, 400, 413}, status)
	status, _, _ = ask("POST", "/api/v1/session", json,
		strings.NewReader(`{"account":"warden","password":"`+strings.Repeat("x", 900_000)+`"}`))
	assert.Equal(t, 401, status, "a very long password is none")

	// Those who say nothing, or a byte now and then, hold no place for those who do.
	var idle []net.Conn
	for range 200 {
		conn, err := net.Dial("tcp", strings.TrimPrefix(address, "https://"))
		require.NoError(t, err)
		defer conn.Close()
		idle = append(idle, conn)
	}
	slow := slowly(t, address)
	assert.Contains(t, warden.does("", "now"), "No series")
	assert.Less(t, <-slow, patience, "who writes a header for ever is shown out as well")
	for _, conn := range idle[:3] {
		_ = conn.SetReadDeadline(time.Now().Add(patience))
		_, err := conn.Read(make([]byte, 1))
		assert.ErrorIs(t, err, io.EOF, "they are shown out")
	}

	// Guesses: few are looked at, and the owner gets in from where he is.
	begun, looked := time.Now(), 0
	for range 300 {
		status, _, _ := ask("POST", "/api/v1/session", json,
			strings.NewReader(`{"account":"ranger","password":"a guess at random"}`))
		if status == 401 {
			looked++
		}
	}
	assert.Less(t, looked, 20+2*int(time.Since(begun).Seconds()))
	eventually(t, "the owner gets in, once there is room for another request from there", func() bool {
		out, err := warden.run("warden\nfour words of trout\n", "login")
		return err == nil && strings.Contains(out, "as warden")
	})
	select {
	case <-central.ended:
		require.Fail(t, "the service ended")
	default:
	}
}

// slowly writes a header, a byte now and then, and says how long that was possible.
func slowly(t *testing.T, address string) <-chan time.Duration {
	t.Helper()
	conn, err := tls.Dial("tcp", strings.TrimPrefix(address, "https://"), &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	out := make(chan time.Duration, 1)
	go func() {
		defer conn.Close()
		begun := time.Now()
		_, err := io.WriteString(conn, "GET /api/v1/now HTTP/1.1\r\nHost: x\r\nX: ")
		for err == nil && time.Since(begun) < patience {
			time.Sleep(200 * time.Millisecond)
			_, err = conn.Write([]byte("x"))
		}
		out <- time.Since(begun)
	}()
	return out
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = '{'
	}
	return len(p), nil
}
