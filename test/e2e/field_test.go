package e2e

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const gatewayConfig = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: long-mere
  series:
    - { select: +/+/oxygen, unit: mg/l, low: 0, high: 20, fresh_for: 7s }
    - { select: "#", fresh_for: 7s }
  sources:
    - name: own
      mqtt_listener:
        address: 127.0.0.1:%[2]s
        messages:
          - { topic: "buoy/{buoy}/state", payload: json, time: /at, time_form: unix_ms, values: [{ at: /water/oxygen, series: "{buoy}/oxygen" }] }
          - { topic: "mast/{quantity}", series: "mast/{quantity}" }
    - name: existing
      mqtt_broker:
        address: tcp://127.0.0.1:%[3]s
        messages:
          - { topic: "cage/+/{cage}", payload: json, time: /t, values: [{ at: /v, series: "{cage}/oxygen", scale: 0.5, offset: 1 }] }
  uplinks:
    - { name: head-office, address: "http://127.0.0.1:%[4]s", secret_file: %[1]s/secret }
`

const centralConfig = `
data: %[1]s/central
listen: 127.0.0.1:%[2]s
central:
  accept:
    - { gateway: long-mere, secret_file: %[1]s/secret }
`

// mosquitto starts the broker of that name.
func mosquitto(t *testing.T, dir string) (port string) {
	port = freePort(t)
	mosquittoAt(t, dir, port)
	return port
}

func mosquittoAt(t *testing.T, dir, port string) *process {
	path := filepath.Join(dir, "mosquitto.conf")
	config := fmt.Sprintf("listener %s 127.0.0.1\nallow_anonymous true\nmax_queued_messages 0\nmax_inflight_messages 100\n",
		port)
	require.NoError(t, os.WriteFile(path, []byte(config), 0o600))
	p := start(t, need(t, "mosquitto"), "-c", path)
	eventually(t, "mosquitto listens", func() bool { return reachable(port) })
	return p
}

func reachable(port string) bool {
	c, err := net.Dial("tcp", "127.0.0.1:"+port)
	if err == nil {
		c.Close()
	}
	return err == nil
}

// publish sends one message per line with mosquitto_pub and returns once all are
// acknowledged.
func publish(t *testing.T, port, topic string, lines []string, more ...string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	args := append([]string{"-h", "127.0.0.1", "-p", port, "-t", topic, "-l"}, more...)
	cmd := exec.CommandContext(ctx, need(t, "mosquitto_pub"), args...)
	cmd.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

// disorder makes readings of the last ten minutes, some of them at the same time, in
// no order at all.
func disorder(random *rand.Rand, n int, begin time.Time) []published {
	out := make([]published, n)
	for i := range out {
		at := begin.Add(time.Duration(random.IntN(600_000)) * time.Millisecond)
		if i > 0 && random.IntN(10) == 0 {
			at = out[random.IntN(i)].at
		}
		out[i] = published{at, math.Round(random.Float64()*1500) / 100}
	}
	return out
}

func TestEverythingPublishedArrivesOnceThoughTheCentralAndTheGatewayAreKilled(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("trout"), 0o600))
	brokerPort, ownPort, centralPort := mosquitto(t, dir), freePort(t), freePort(t)
	centralProcess, _ := service(t, dir, "central", fmt.Sprintf(centralConfig, dir, centralPort))
	gatewayProcess, gateway := service(t, dir, "gateway",
		fmt.Sprintf(gatewayConfig, dir, ownPort, brokerPort, centralPort))
	eventually(t, "the gateway's sources are up", func() bool {
		h, err := gateway.Health(t.Context())
		return err == nil && h.Gateway.Sources[0].Up && h.Gateway.Sources[1].Up
	})

	random := rand.New(rand.NewPCG(1, 2))
	begin := time.Now().Add(-11 * time.Minute).Truncate(time.Millisecond)
	own, existing := disorder(random, 900, begin), disorder(random, 900, begin)
	part := func(k int) {
		ownLines, existingLines := []string{}, []string{}
		for i := k * 300; i < (k+1)*300; i++ {
			ownLines = append(ownLines,
				fmt.Sprintf(`{"at":%d,"water":{"oxygen":%v}}`, own[i].at.UnixMilli(), own[i].value))
			existingLines = append(existingLines,
				fmt.Sprintf(`{"t":%q,"v":%v}`, existing[i].at.UTC().Format(time.RFC3339Nano), existing[i].value))
		}
		// one protocol version and quality of service after the other
		how := [][]string{{"-q", "1"}, {"-q", "1", "-V", "mqttv5"}, {"-q", "2", "-V", "mqttv311"}}[k]
		publish(t, ownPort, "buoy/buoy-1/state", ownLines, how...)
		publish(t, brokerPort, "cage/north/cage-7", existingLines, how...)
	}
	part(0)
	centralProcess.kill() // in mid-stream
	part(1)
	var central *client.Client
	centralProcess, central = service(t, dir, "central", fmt.Sprintf(centralConfig, dir, centralPort))
	part(2)
	eventually(t, "all messages are acknowledged", func() bool { return acked(t, gateway) == [2]uint64{900, 900} })
	health, err := gateway.Health(t.Context())
	require.NoError(t, err)
	assert.Equal(t, uint64(1800), health.Gateway.Accepted, "readings counted are messages acknowledged")
	assert.Zero(t, health.Gateway.Rejected)

	gatewayProcess.kill()
	_, gateway = service(t, dir, "gateway", fmt.Sprintf(gatewayConfig, dir, ownPort, brokerPort, centralPort))
	for i := range existing {
		existing[i].value = existing[i].value*0.5 + 1 // as the configuration calibrates
	}
	for _, width := range []string{"10s", "1m", "5m"} {
		sameAsSlow(t, central, "long-mere/buoy-1/oxygen", own, begin, width)
		sameAsSlow(t, central, "long-mere/cage-7/oxygen", existing, begin, width)
	}
	sameAsSlow(t, gateway, "long-mere/cage-7/oxygen", existing, begin, "7s") // from the readings themselves
	assert.Zero(t, centralProcess.interrupt(t), "Ctrl-C ends a service cleanly")
}

func acked(t *testing.T, gateway *client.Client) (out [2]uint64) {
	h, err := gateway.Health(t.Context())
	require.NoError(t, err)
	for i, s := range h.Gateway.Sources {
		out[i] = s.Acked
	}
	return out
}

// sameAsSlow asks a service for windows until every one is what the slow calculation
// makes of what was sent; revisions may still be on their way.
func sameAsSlow(t *testing.T, asked *client.Client, path string, sent []published, begin time.Time, width string) {
	t.Helper()
	wide, err := time.ParseDuration(width)
	require.NoError(t, err)
	wanted := slowWindows(sent, wide, 7*time.Second)
	q := client.WindowsQuery{
		Select: []string{path}, From: begin, To: begin.Add(10 * time.Minute), Width: width,
		Stats: []string{"count", "mean", "min", "max", "sd", "first", "last", "coverage"},
	}
	wrong := "nothing was answered"
	for deadline := time.Now().Add(patience); wrong != "" &&
		time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		answer, err := asked.Windows(t.Context(), q)
		if err != nil {
			wrong = err.Error()
			continue
		}
		wrong = differs(answer, wanted)
	}
	assert.Empty(t, wrong, "%s in windows of %s", path, width)
}

// differs returns the first difference between an answer and what it should be.
func differs(answer client.Windows, wanted map[time.Time]slowWindow) string {
	got, found := answer.Series[0], 0
	for i, start := range answer.Starts {
		if got.Values["count"][i] == 0 {
			continue
		}
		found++
		w, ok := wanted[start]
		if !ok {
			return fmt.Sprintf("window %s was never called for", start)
		}
		of := func(stat string) float64 { return float64(got.Values[stat][i]) }
		for stat, value := range map[string]float64{
			"count": float64(w.count),
			"min":   w.min,
			"max":   w.max,
			"first": w.first,
			"last":  w.last,
		} {
			if of(stat) != value {
				return fmt.Sprintf("%s of %s is %v where %v should be", stat, start, of(stat), value)
			}
		}
		for stat, value := range map[string]float64{"mean": w.mean, "sd": w.sd, "coverage": w.coverage} {
			alike := math.Abs(of(stat)-value) <= 1e-9 || math.IsNaN(of(stat)) && math.IsNaN(value)
			if !alike {
				return fmt.Sprintf("%s of %s is %v where %v should be", stat, start, of(stat), value)
			}
		}
	}
	if found != len(wanted) {
		return fmt.Sprintf("%d windows where %d should be", found, len(wanted))
	}
	return ""
}

func TestWhatCannotBeReadIsKeptAndEverythingElseGoesOn(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("trout"), 0o600))
	ownPort := freePort(t)
	_, gateway := service(t, dir, "gateway", fmt.Sprintf(gatewayConfig, dir, ownPort, freePort(t), freePort(t)))
	eventually(t, "the listener is up", func() bool { return reachable(ownPort) })

	for _, bad := range []struct{ topic, payload, reason string }{
		{"buoy/buoy-1/state", `{"at":1,`, "payload is not JSON: it ends after 8 bytes"},
		{
			"buoy/buoy-1/state", `{"at":1700000000000,"water":{}}`,
			"long-mere/buoy-1/oxygen: payload has nothing at /water/oxygen",
		},
		{
			"buoy/buoy-1/state", `{"at":"noon","water":{"oxygen":9}}`,
			`the time at /at: the text "noon" where a time in unix_ms should be`,
		},
		{
			"buoy/buoy-1/state", `{"at":1700000000000,"water":{"oxygen":"high"}}`,
			`long-mere/buoy-1/oxygen: payload has the text "high" at /water/oxygen where a number should be`,
		},
		{
			"buoy/buoy-1/state", `{"at":1700000000000,"water":{"oxygen":-99.9}}`,
			"long-mere/buoy-1/oxygen: value -99.9 is below the range's low end 0",
		},
		{
			"buoy/buoy-1/state", `{"at":86400000,"water":{"oxygen":9}}`,
			"long-mere/buoy-1/oxygen: time stamp 1970-01-02T00:00:00Z is before the year 2000; the device's clock is not set",
		},
		{
			"buoy/??/state", `{}`,
			`topic cannot be made a series: {buoy} is "??" here, of which no level of a path can be made`,
		},
		{"barge/1", `9`, "topic matches no messages: entry; those are buoy/{buoy}/state, mast/{quantity}"},
		{"mast/wind_speed", `NaN`, "payload \"NaN\" is not a number"},
		{"mast/wind_speed", `5,2`, `payload "5,2" is not a number`},
	} {
		publish(t, ownPort, bad.topic, []string{bad.payload}, "-q", "1")
		kept, err := gateway.Rejects(t.Context(), client.RejectFilter{Limit: 1})
		require.NoError(t, err)
		require.Len(t, kept.Rejects, 1)
		r := kept.Rejects[0]
		assert.True(t, strings.HasPrefix(r.Reason, bad.reason), "%s\nis wanted of %s, not\n%s", bad.reason,
			bad.payload, r.Reason)
		assert.Equal(t, "own", r.Source)
		assert.Equal(t, bad.topic, r.Place)
		assert.Equal(t, bad.payload, string(r.Raw), "the raw bytes are kept")
	}
	publish(t, ownPort, "mast/wind_speed", []string{" 5.2 "}, "-q", "1")
	now, err := gateway.Now(t.Context(), "long-mere/mast/wind_speed")
	require.NoError(t, err)
	assert.EqualValues(t, 5.2, now.Values[0].Value)
	health, err := gateway.Health(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 10, health.Gateway.Rejected)
	assert.EqualValues(t, 1, health.Gateway.Accepted)
	assert.Equal(t, "trouble", health.Status, "a broker that is not there is said to be down")
}

func TestGatewayAndBrokerMayEachBeAway(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("trout"), 0o600))
	port := freePort(t)
	broker := mosquittoAt(t, dir, port)
	config := fmt.Sprintf(gatewayConfig, dir, freePort(t), port, freePort(t))
	gatewayProcess, gateway := service(t, dir, "gateway", config)
	connected := func() bool {
		h, err := gateway.Health(t.Context())
		return err == nil && h.Gateway.Sources[1].Up
	}
	eventually(t, "the gateway is subscribed", connected)
	begin := time.Now().Add(-time.Minute).UTC().Truncate(time.Second)
	send := func(second int, more ...string) {
		line := fmt.Sprintf(`{"t":%q,"v":%d}`, begin.Add(time.Duration(second)*time.Second).Format(time.RFC3339),
			second)
		publish(t, port, "cage/north/cage-7", []string{line}, append([]string{"-q", "1"}, more...)...)
	}
	arrived := func(second int) func() bool {
		return func() bool {
			now, err := gateway.Now(t.Context(), "")
			return err == nil && len(now.Values) == 1 && float64(now.Values[0].Value) == float64(second)*0.5+1
		}
	}
	send(1)
	eventually(t, "the first arrives", arrived(1))
	gatewayProcess.kill()
	send(2) // the broker keeps it for the gateway's session
	_, gateway = service(t, dir, "gateway", config)
	eventually(t, "what came while the gateway was away arrives", arrived(2))

	broker.kill()
	eventually(t, "the loss is noticed", func() bool { return !connected() })
	mosquittoAt(t, dir, port)
	eventually(t, "the gateway is subscribed again", connected)
	send(3, "-r") // retained, but with a time of its own
	eventually(t, "what comes after arrives", arrived(3))
}

func TestMessagesBeyondTheSizeLimitEndTheirConnectionOnly(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("trout"), 0o600))
	ownPort := freePort(t)
	_, gateway := service(t, dir, "gateway", fmt.Sprintf(gatewayConfig, dir, ownPort, freePort(t), freePort(t)))
	eventually(t, "the listener is up", func() bool { return reachable(ownPort) })
	cmd := exec.Command(need(t, "mosquitto_pub"), "-h", "127.0.0.1", "-p", ownPort, "-t", "mast/wind_speed", "-q", "1",
		"-s")
	cmd.Stdin = strings.NewReader(strings.Repeat("9", 600_000))
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	eventually(t, "the loss is counted", func() bool {
		h, err := gateway.Health(t.Context())
		return err == nil && h.Gateway.Sources[0].Errors > 0 &&
			strings.Contains(h.Gateway.Sources[0].LastError, " lost: ")
	})
	publish(t, ownPort, "mast/wind_speed", []string{"4.1"}, "-q", "1")
	now, err := gateway.Now(t.Context(), "")
	require.NoError(t, err)
	assert.EqualValues(t, 4.1, now.Values[0].Value)
}
