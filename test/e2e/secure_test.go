package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/certs/certstest"
)

const securedBrokers = `
user root
per_listener_settings true
listener %[2]s 127.0.0.1
certfile %[1]s/broker.pem
keyfile %[1]s/broker.key
password_file %[1]s/passwords
allow_anonymous false
listener %[3]s 127.0.0.1
certfile %[1]s/broker.pem
keyfile %[1]s/broker.key
cafile %[1]s/ca.pem
require_certificate true
use_identity_as_username true
`

const securedGateway = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: alder-weir
  sources:
    - name: by-password
      mqtt_broker:
        address: tls://127.0.0.1:%[2]s
        version: 5
        tls: { ca: %[1]s/ca.pem, server_name: broker }
        user: weir
        secret_file: %[1]s/secret
        client_id: weir-5
        messages: [{ topic: five/+, payload: json, time: /t, time_form: unix_ms, values: [{ at: /v, series: a/five }] }]
    - name: by-certificate
      mqtt_broker:
        address: tls://127.0.0.1:%[3]s
        tls: { ca: %[1]s/ca.pem, cert: %[1]s/weir.pem, key: %[1]s/weir.key, server_name: broker }
        client_id: weir-3
        messages: [{ topic: three/+, payload: json, time: /t, time_form: unix_ms, values: [{ at: /v, series: a/three }] }]
    - name: shared
      mqtt_broker:
        address: tls://127.0.0.1:%[2]s
        version: 5
        share: weir
        tls: { ca: %[1]s/ca.pem, server_name: broker }
        user: weir
        secret_file: %[1]s/secret
        client_id: weir-shared
        messages: [{ topic: shared/+, payload: json, time: /t, time_form: unix_ms, values: [{ at: /v, series: a/shared }] }]
    - name: nobody-there
      mqtt_broker:
        address: tcp://127.0.0.1:%[5]s
        messages: [{ topic: x, series: a/x }]
    - name: refused
      mqtt_broker:
        address: tls://127.0.0.1:%[2]s
        version: 5
        tls: { ca: %[1]s/ca.pem, server_name: broker }
        user: weir
        client_id: weir-refused
        messages: [{ topic: x, series: a/x }]
    - name: own
      mqtt_listener:
        address: 127.0.0.1:%[4]s
        tls: { cert: %[1]s/broker.pem, key: %[1]s/broker.key, client_ca: %[1]s/ca.pem }
        accounts: %[1]s/accounts
        permissions: [{ topics: ["{account}/+"] }]
        presence: "{account}/online"
        messages: [{ topic: "{station}/{quantity}", series: "{station}/{quantity}" }]
`

// counted returns how many readings of a series there are.
func counted(t *testing.T, c *client.Client, path string) float64 {
	all, err := c.Windows(t.Context(), client.WindowsQuery{
		Select: []string{path},
		Last:   "1d",
		Width:  "whole",
		Stats:  []string{"count"},
	})
	if err != nil || len(all.Series) != 1 {
		return 0
	}
	return float64(all.Series[0].Whole.Values["count"])
}

func TestBrokersAndDevicesWithCertificatesAndPasswords(t *testing.T) {
	dir := t.TempDir()
	ca := certstest.New(t, dir)
	for _, name := range []string{"broker", "weir", "gauge"} {
		ca.Make(t, name)
	}
	program, err := binary()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("salmon run"), 0o600))
	made := exec.Command(need(t, "mosquitto_passwd"), "-b", "-c", filepath.Join(dir, "passwords"), "weir", "salmon run")
	out, err := made.CombinedOutput()
	require.NoError(t, err, string(out))
	account := exec.Command(program, "password", "float")
	account.Stdin = strings.NewReader("smolt parr\n")
	line, err := account.Output()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "accounts"), line, 0o600))

	byPassword, byCert, own := freePort(t), freePort(t), freePort(t)
	path := filepath.Join(dir, "mosquitto.conf")
	require.NoError(t, os.WriteFile(path, fmt.Appendf(nil, securedBrokers, dir, byPassword, byCert), 0o600))
	start(t, need(t, "mosquitto"), "-c", path)
	eventually(t, "mosquitto listens", func() bool { return reachable(byPassword) && reachable(byCert) })
	config := fmt.Sprintf(securedGateway, dir, byPassword, byCert, own, freePort(t))
	process, gateway := service(t, dir, "gateway", config)

	up := func() bool {
		h, err := gateway.Health(t.Context())
		if err != nil {
			return false
		}
		n := 0
		for _, s := range h.Gateway.Sources {
			if s.Up {
				n++
			}
		}
		return n == 4
	}
	eventually(t, "all that can are connected", up)
	h, err := gateway.Health(t.Context())
	require.NoError(t, err)
	for _, s := range h.Gateway.Sources {
		switch s.Name {
		case "nobody-there":
			assert.Contains(t, s.LastError, "connecting")
		case "refused":
			assert.Contains(t, s.LastError, "the broker refuses (code 0x8", "with the reason in words")
		}
	}

	withPassword := []string{"--cafile", ca.CA, "-u", "weir", "-P", "salmon run", "-q", "1"}
	withCert := []string{
		"--cafile", ca.CA, "--cert", filepath.Join(dir, "gauge.pem"), "--key", filepath.Join(dir, "gauge.key"), "-q",
		"1",
	}
	now := time.Now().UnixMilli()
	lines := func(from, n int) (out []string) {
		for i := range n {
			out = append(out, fmt.Sprintf(`{"t":%d,"v":%d}`, now-int64(1000*(from+i)), i))
		}
		return out
	}
	send := func(from int) {
		publish(t, byPassword, "five/x", lines(from, 20), withPassword...)
		publish(t, byPassword, "shared/x", lines(from, 20), withPassword...)
		publish(t, byCert, "three/x", lines(from, 20), withCert...)
	}
	arrived := func(n float64) func() bool {
		return func() bool {
			for _, name := range []string{"five", "three", "shared"} {
				if counted(t, gateway, "alder-weir/a/"+name) != n {
					return false
				}
			}
			return true
		}
	}
	send(0)
	eventually(t, "all arrive", arrived(20))
	process.kill()
	send(100) // while nobody is there
	process, gateway = service(t, dir, "gateway", config)
	eventually(t, "what the brokers kept arrives", arrived(40))

	eventually(t, "the listener is up", func() bool { return reachable(own) })
	publish(t, own, "gauge/level", []string{"1"}, withCert...)
	publish(t, own, "float/level", []string{"1"}, "--cafile", ca.CA, "-u", "float", "-P", "smolt parr", "-q", "1",
		"-V", "mqttv5")
	assert.EqualValues(t, 1, counted(t, gateway, "alder-weir/gauge/level"))
	assert.EqualValues(t, 1, counted(t, gateway, "alder-weir/float/level"))
	eventually(t, "its presence is a series", func() bool {
		return counted(t, gateway, "alder-weir/gauge/online") >= 2
	})
	for _, wrong := range [][]string{
		{"--cafile", ca.CA, "-u", "float", "-P", "smolt"},
		{"--cafile", ca.CA},
		{},
	} {
		args := append([]string{
			"-h", "127.0.0.1", "-p", own, "-t", "float/level", "-m", "9", "-q", "1", "-V", "mqttv5",
		}, wrong...)
		out, err := exec.CommandContext(t.Context(), need(t, "mosquitto_pub"), args...).CombinedOutput()
		assert.Error(t, err, "%v: %s", wrong, out)
	}
	assert.EqualValues(t, 1, counted(t, gateway, "alder-weir/float/level"))
	assert.Zero(t, process.interrupt(t))
}
