package e2e

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/certs"
	"nexocumula/internal/certs/certstest"
)

const secureCentral = `
data: %[1]s/central
listen: 127.0.0.1:0
tls: { cert: %[1]s/central.pem, key: %[1]s/central.key }
central: { accept: [{ gateway: long-mere, secret_file: %[1]s/secret }] }
`

const secureGateway = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: long-mere
  sources:
    - name: own
      mqtt_listener: { address: "127.0.0.1:%[2]s", messages: [{ topic: "s/{n}", payload: number, series: "{n}/level" }] }
  uplinks: [{ name: head-office, address: "%[3]s", secret_file: %[1]s/secret, tls: { ca: %[1]s/%[4]s } }]
`

// The HTTP interface by TLS: console, calls and replication, with certificates that are replaced while
// it runs, for those who trust their authority and for nobody else.
func TestTheInterfaceSpeaksTLS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	ca := certstest.New(t, dir)
	ca.Make(t, "central")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("otter-and-heron-7\n"), 0o600))
	config := filepath.Join(dir, "central.yaml")
	require.NoError(t, os.WriteFile(config, []byte(fmt.Sprintf(secureCentral, dir)), 0o600))
	program, err := binary()
	require.NoError(t, err)
	p := start(t, program, "run", "--config", config)
	address := ""
	eventually(t, "the central runs", func() bool {
		_, after, found := strings.Cut(p.output.String(), "at https://")
		address, _, _ = strings.Cut(after, "\n")
		return found && address != ""
	})
	trusted, err := certs.Open(certs.Files{CA: ca.CA})
	require.NoError(t, err)
	central := client.Over("https://"+address, trusted.HTTP(""))
	_, err = central.Health(t.Context())
	require.NoError(t, err)
	_, err = client.New("https://" + address).Health(t.Context())
	assert.ErrorContains(t, err, "certificate")

	// Who comes without TLS is sent to where it is, also from deep inside and with a query.
	way := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := way.Get("http://" + address + "/trends?series=a&b=1")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, []any{http.StatusPermanentRedirect, "https://" + address + "/trends?series=a&b=1"},
		[]any{resp.StatusCode, resp.Header.Get("Location")})

	away, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+address+"/", nil)
	require.NoError(t, err)
	away.Host = "elsewhere.example"
	resp, err = way.Do(away)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, []any{http.StatusMisdirectedRequest, ""}, []any{resp.StatusCode, resp.Header.Get("Location")},
		"nobody is sent to a name that he brings himself")

	front, err := trusted.HTTP("").Get("https://" + address + "/")
	require.NoError(t, err)
	front.Body.Close()
	assert.Equal(t, "max-age=31536000", front.Header.Get("Strict-Transport-Security"))

	// HTTP/2, and no TLS before 1.2, by a tool that nobody here wrote.
	probe := func(args ...string) string {
		ctx, stop := context.WithTimeout(t.Context(), 10*time.Second)
		defer stop()
		cmd := exec.CommandContext(ctx, "openssl",
			append([]string{"s_client", "-connect", address, "-CAfile", ca.CA, "-alpn", "h2,http/1.1"}, args...)...)
		out, _ := cmd.CombinedOutput() // it ends with an error where it is refused
		return string(out)
	}
	assert.Contains(t, probe("-tls1_3"), "ALPN protocol: h2")
	assert.Contains(t, probe("-tls1_2"), "Verification: OK")
	for _, old := range []string{"-tls1_1", "-tls1"} {
		assert.NotContains(t, probe(old, "-cipher", "ALL:@SECLEVEL=0"),
			"Verify return code: 0 (ok)\n    Extended master secret: yes", old)
		assert.NotContains(t, probe(old, "-cipher", "ALL:@SECLEVEL=0"), "ALPN protocol", old)
	}
	for _, weak := range []string{"AES128-SHA", "AES256-SHA256", "DES-CBC3-SHA", "NULL-SHA", "ADH-AES128-SHA256"} {
		assert.NotContains(t, probe("-tls1_2", "-cipher", weak+":@SECLEVEL=0"), "ALPN protocol", weak)
	}

	// A gateway replicates over it when it trusts the authority, and says why it waits when not.
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "other"), 0o700))
	certstest.New(t, filepath.Join(dir, "other"))
	port := freePort(t)
	wary, gateway := service(t, dir, "gateway",
		fmt.Sprintf(secureGateway, dir, port, "https://"+address, "other/ca.pem"))
	eventually(t, "the gateway says why it waits", func() bool {
		u, err := gateway.Uplinks(t.Context())
		return err == nil && strings.Contains(u.Sending[0].LastError, "certificate")
	})
	require.Zero(t, wary.interrupt(t))
	plain := strings.Replace(fmt.Sprintf(secureGateway, dir, port, "http://"+address, "ca.pem"),
		", tls: { ca: "+dir+"/ca.pem }", "", 1)
	wary, gateway = service(t, dir, "gateway", plain)
	eventually(t, "the gateway says that it was sent elsewhere, and does not go there", func() bool {
		u, err := gateway.Uplinks(t.Context())
		return err == nil && strings.Contains(u.Sending[0].LastError, "sends to https://"+address)
	})
	require.Zero(t, wary.interrupt(t))
	service(t, dir, "gateway", fmt.Sprintf(secureGateway, dir, port, "https://"+address, "ca.pem"))
	publish(t, port, "s/buoy-1", []string{"4.5"}, "-q", "1")
	eventually(t, "the central has it", func() bool {
		now, err := central.Now(t.Context(), "#")
		return err == nil && len(now.Values) == 1 && now.Values[0].Value == 4.5
	})
	run := func(args ...string) (string, error) {
		cmd := exec.CommandContext(t.Context(), program, args...)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	out, err := run("--trust", ca.CA, "now", "--at", "https://"+address)
	require.NoError(t, err, out)
	assert.Contains(t, out, "long-mere/buoy-1/level")
	out, err = run("now", "--at", "https://"+address)
	assert.Error(t, err)
	assert.Contains(t, out, "certificate")
	out, err = run("check", "--live", "--wait", "1s", filepath.Join(dir, "gateway.yaml"))
	assert.Contains(t, out, "the central answers", "%v", err)

	// Another certificate counts once it is there; one that cannot be read does not, and is told.
	serial := func() string {
		conn, err := tls.Dial("tcp", address, trusted.Client("localhost"))
		if err != nil {
			return err.Error()
		}
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.String()
	}
	first := serial()
	ca.Make(t, "central")
	eventually(t, "the new certificate counts", func() bool { return serial() != first })
	second := serial()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "central.pem"), []byte("nothing"), 0o600))
	eventually(t, "the broken one is told", func() bool {
		h, err := central.Health(t.Context())
		return err == nil && strings.Contains(strings.Join(h.Troubles, " "), "cannot be read anew")
	})
	assert.Equal(t, second, serial())

	// Who connects and says nothing holds up nobody.
	for range 50 {
		silent, err := net.Dial("tcp", address)
		require.NoError(t, err)
		defer silent.Close()
	}
	resp, err = trusted.HTTP("").Get("https://" + address + "/")
	require.NoError(t, err)
	defer resp.Body.Close()
	page, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Contains(t, string(page), "<title>Nexocumula</title>")
}
