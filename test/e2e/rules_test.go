package e2e

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	paho "github.com/eclipse/paho.mqtt.golang"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"nexocumula/client"
)

const rulesConfig = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: stony-beck
  series:
    - select: +/+/silo_level
      unit: "%%"
      every: 10s
      normal: { inner: [20, 95] }
      calibration: [{ points: [[120, 0], [%[3]s, 100]], unit_in: mV, outside: reject, decimals: 1 }]
    - select: +/+/oxygen
      unit: mg/l
      high: 25
      screens:
        - { name: sudden, change: 2, per: 1m, then: uncertain }
        - { name: saturation, holds: "value < 14.6 - 0.25 * t", with: { t: water_temp } }
  sources:
    - name: own
      mqtt_listener:
        address: 127.0.0.1:%[2]s
        messages:
          - { topic: "silo/{silo}", payload: json, time: /at, values: [{ at: /mv, series: "{silo}/silo_level" }] }
          - { topic: "raceway/{n}", payload: json, time: /at, values: [{ at: /o, series: "raceway-{n}/oxygen" }, { at: /t, series: "raceway-{n}/water_temp" }] }
`

func nexocumula(t *testing.T, at *client.Client, args ...string) string {
	t.Helper()
	program, err := binary()
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), program, args...)
	cmd.Env = append(os.Environ(), "NEXOCUMULA_AT="+at.Base())
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%v: %s", args, out)
	return string(out)
}

func TestWhatAWrongRuleRefusedCountsOnceItIsMended(t *testing.T) {
	dir, port := t.TempDir(), freePort(t)
	config := func(full string) string { return fmt.Sprintf(rulesConfig, dir, port, full) }
	p, gateway := service(t, dir, "gateway", config("500")) // a nought from the bad PDF
	hour := time.Now().Add(-time.Hour).Truncate(time.Minute)
	at := func(seconds int) string {
		return hour.Add(time.Duration(seconds) * time.Second).UTC().Format(time.RFC3339)
	}
	publish(t, port, "silo/silo-1", []string{
		fmt.Sprintf(`{"at":%q,"mv":310}`, at(0)), fmt.Sprintf(`{"at":%q,"mv":690}`, at(10)), fmt.Sprintf(`{"at":%q,"mv":500}`,
			at(20)),
	}, "-q", "1")
	publish(t, port, "raceway/4", []string{
		fmt.Sprintf(`{"at":%q,"o":8.0,"t":12}`, at(0)), fmt.Sprintf(`{"at":%q,"o":8.1,"t":12}`, at(10)), fmt.Sprintf(`{"at":%q,"o":11.5,"t":12}`,
			at(20)),
		fmt.Sprintf(`{"at":%q,"o":12,"t":12}`, at(30)), fmt.Sprintf(`{"at":%q,"o":8.2,"t":12}`, at(40)),
	}, "-q", "1")

	// What came of them.
	window := func(path string) (counts, means []float64) {
		out, err := gateway.Windows(t.Context(), client.WindowsQuery{
			Select: []string{path},
			From:   hour,
			To:     hour.Add(time.Minute),
			Width:  "1m",
			Stats:  []string{"count", "mean"},
		})
		if err != nil || len(out.Series) == 0 {
			return nil, nil
		}
		return out.Series[0].Values["count"], out.Series[0].Values["mean"]
	}
	eventually(t, "the windows are made", func() bool {
		c, _ := window("stony-beck/raceway-4/oxygen")
		return len(c) == 1 && c[0] == 4
	})
	_, mean := window("stony-beck/silo-1/silo_level")
	assert.Equal(t, []float64{75}, mean, "310 mV is 50 %, 500 is 100 by the wrong point, 690 was refused")
	kept, err := gateway.Rejects(t.Context(), client.RejectFilter{})
	require.NoError(t, err)
	require.Len(t, kept.Rejects, 2)
	level := kept.Rejects[1]
	assert.Equal(t, []any{"calibration", "stony-beck/silo-1/silo_level", client.Number(690)},
		[]any{level.Rule, level.Series, level.Value})
	assert.Contains(t, level.Reason, "raw value 690 is outside of what the calibration was made for, 120 to 500")
	assert.Equal(t, "saturation", kept.Rejects[0].Rule)
	assert.Contains(t, kept.Rejects[0].Reason, "with stony-beck/raceway-4/water_temp 12")
	quality, err := gateway.Readings(t.Context(), client.ReadingsQuery{
		Select: "stony-beck/raceway-4/oxygen/quality",
		From:   hour,
		To:     hour.Add(time.Minute),
	})
	require.NoError(t, err)
	require.Len(t, quality.Series, 1)
	var marks []float64
	for _, r := range quality.Series[0].Readings {
		marks = append(marks, float64(r.Value))
	}
	assert.Equal(t, []float64{0, 0, 1, 0}, marks, "the jump counts, in doubt")
	assert.Contains(t, nexocumula(t, gateway, "reject", "show", fmt.Sprint(level.ID)), `{"at":"`+at(10)+`","mv":690}`)
	counts := nexocumula(t, gateway, "reject", "count", "--last", "1h", "--output", "csv")
	assert.Contains(t, counts, ",own,calibration,1\n")
	assert.Contains(t, counts, ",own,saturation,1\n")
	tried := nexocumula(t, gateway, "try", "--reject", fmt.Sprint(level.ID))
	assert.Contains(t, tried, "rejected")
	assert.Contains(t, tried,
		"stony-beck/silo-1/silo_level is calibrated: points 120→0 500→100 from mV, reject outside 120 to 500, decimals 1")

	// A file that is not good changes nothing; a good one is taken over.
	path := filepath.Join(dir, "gateway.yaml")
	require.NoError(t,
		os.WriteFile(path, []byte(strings.Replace(config("880"), "oxygen\n", "oxigen\n      hihg: 3\n", 1)), 0o600))
	_, err = gateway.Reload(t.Context())
	assert.ErrorContains(t, err, `everything stays as it is, for the file is not good`)
	assert.ErrorContains(t, err, `did you mean high?`)
	require.NoError(t, os.WriteFile(path, []byte(config("880")), 0o600))
	assert.Contains(t,
		nexocumula(t, gateway, "try", "--config", path, "own", "silo/1", `{"at":"`+at(10)+`","mv":690}`), "75",
		"the file alone says so before it counts")
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGHUP))
	eventually(t, "the file is read again", func() bool {
		return strings.Contains(nexocumula(t, gateway, "try", "own", "silo/silo-1", `{"at":"`+at(10)+`","mv":690}`),
			"75")
	})
	again := nexocumula(t, gateway, "reload")
	assert.Regexp(t, `^At http://127\.0\.0\.1:[0-9]+ \(stony-beck\):\nNothing in the configuration has changed\.\n$`,
		again)

	// What passes now counts at its own time, once however often it is replayed.
	for i, passed := range []int{1, 0} {
		out, err := gateway.Replay(t.Context(), client.Replay{Select: "+/+/silo_level"})
		require.NoError(t, err)
		assert.Equal(t, passed, out.Passed, i)
	}
	out, err := gateway.Replay(t.Context(), client.Replay{IDs: []uint64{level.ID}})
	require.NoError(t, err)
	assert.Contains(t, out.Refused[0].Reason, "it counts already")
	eventually(t, "the window is made again", func() bool {
		c, m := window("stony-beck/silo-1/silo_level")
		return c[0] == 3 && m[0] == (50+75+100)/3.0 // what was calibrated before keeps its value
	})
	assert.Contains(t, nexocumula(t, gateway, "reject", "replay", "--rule", "calibration"),
		"There are no such rejects that do not count yet.\n")
	versions, err := gateway.Versions(t.Context(), "stony-beck/silo-1/silo_level")
	require.NoError(t, err)
	require.Len(t, versions.Versions, 2)
	assert.Contains(t, versions.Versions[0].Calibration, "880→100")
	assert.Contains(t, versions.Versions[1].Calibration, "500→100")
	series, err := gateway.Series(t.Context(), "+/+/silo_level")
	require.NoError(t, err)
	assert.Equal(t, "10s", series.Series[0].Every)
	assert.Equal(t, []client.Number{20, 95}, series.Series[0].Normal.Inner)
	now, err := gateway.Now(t.Context(), "+/+/silo_level")
	require.NoError(t, err)
	assert.Equal(t, []string{"missing", "unusual"}, []string{now.Values[0].Condition, now.Values[0].Standing},
		"100 % is above the inner range")
}

const loadConfig = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: stony-beck
  series:
    - { select: "#", unit: mg/l, high: 9%[4]d, fresh_for: 7s }
  sources:
    - name: steady
      mqtt_listener: { address: "127.0.0.1:%[2]s", messages: [{ topic: "s/{n}", payload: json, time: /t, time_form: unix_ms, values: [{ at: /v, series: "{n}/oxygen" }] }] }
    - name: changing
      mqtt_listener: { address: "127.0.0.1:%[3]s", max_clients: %[4]d, messages: [{ topic: "s/{n}", payload: json, time: /t, time_form: unix_ms, values: [{ at: /v, series: "{n}/oxygen" }] }] }
`

// Two listeners get readings all the time; one is restarted by each reload, the other goes
// on. Every reading is there once, and every summary as if nothing had happened.
func TestReloadingUnderLoadLosesAndDoublesNothing(t *testing.T) {
	dir, ports := t.TempDir(), [2]string{freePort(t), freePort(t)}
	config := func(n int) string { return fmt.Sprintf(loadConfig, dir, ports[0], ports[1], 100+n) }
	_, gateway := service(t, dir, "gateway", config(0))
	hour := time.Now().Add(-2 * time.Hour).Truncate(time.Hour)
	ctx, stop := context.WithCancel(t.Context())
	const publishers = 8
	var sent [publishers]atomic.Int64
	var all errgroup.Group
	for i := range publishers {
		all.Go(func() error { return publishUntil(ctx, ports[i%2], fmt.Sprintf("s/x%d", i), hour, &sent[i]) })
	}
	someSentNothing := func() bool { // half of them speak to a listener that is away as often as not
		for i := range sent {
			if sent[i].Load() == 0 {
				return true
			}
		}
		return false
	}
	last := 0
	for deadline := time.Now().Add(patience); last < 50 || someSentNothing() && time.Now().Before(deadline); last++ {
		n := last
		require.NoError(t, os.WriteFile(filepath.Join(dir, "gateway.yaml"), []byte(config(n+1)), 0o600))
		out, err := gateway.Reload(t.Context())
		require.NoError(t, err)
		require.Equal(t, []string{"gateway.series", "source changing"}, out.Applied)
		require.Empty(t, out.Restart)
		time.Sleep(50 * time.Millisecond)
	}
	stop()
	require.NoError(t, all.Wait())

	// A listener that cannot have its port is shown as down, and takes it once it is free; the
	// gateway goes on meanwhile.
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(taken.Addr().String())
	require.NoError(t, err)
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "gateway.yaml"),
			[]byte(fmt.Sprintf(loadConfig, dir, ports[0], port, 101+last)), 0o600))
	_, err = gateway.Reload(t.Context())
	require.NoError(t, err)
	up := func(wanted bool) func() bool {
		return func() bool {
			h, err := gateway.Health(t.Context())
			return err == nil && h.Gateway.Sources[0].Up && h.Gateway.Sources[1].Up == wanted &&
				(wanted || strings.Contains(h.Gateway.Sources[1].LastError, "listening for MQTT"))
		}
	}
	eventually(t, "the source is down", up(false))
	require.NoError(t, taken.Close())
	eventually(t, "the source is up again", up(true))
	for i := range sent {
		n := int(sent[i].Load())
		require.Positive(t, n)
		eventually(t, fmt.Sprintf("the %d readings of publisher %d are in their windows", n, i), func() bool {
			out, err := gateway.Windows(t.Context(), client.WindowsQuery{
				Select: []string{fmt.Sprintf("stony-beck/x%d/oxygen", i)}, From: hour, To: hour.Add(2 * time.Hour), Width: "10s", Stats: []string{"count", "mean", "min", "max", "first", "last"},
			})
			return err == nil && undisturbed(out.Series[0].Values, n)
		})
	}
	health, err := gateway.Health(t.Context())
	require.NoError(t, err)
	assert.Zero(t, health.Gateway.Rejected)
}

// undisturbed reports whether windows hold n readings, a tenth of a second apart, whose values
// count up by one.
func undisturbed(values map[string]client.Numbers, n int) bool {
	total := 0
	for i, count := range values["count"] {
		if count != count || count == 0 {
			continue
		}
		first := float64(100 * i)
		last := first + count - 1
		if values["min"][i] != first || values["first"][i] != first || values["max"][i] != last ||
			values["last"][i] != last || values["mean"][i] != (first+last)/2 {
			return false
		}
		total += int(count)
	}
	return total == n
}

// publishUntil sends a reading after the other, each until it is acknowledged, and counts them.
// A lost connection is made anew.
func publishUntil(ctx context.Context, port, topic string, from time.Time, sent *atomic.Int64) error {
	deadline := time.Now().Add(patience)
	for ctx.Err() == nil {
		c := paho.NewClient(paho.NewClientOptions().AddBroker("tcp://127.0.0.1:" + port).SetClientID(topic).SetAutoReconnect(false).SetConnectTimeout(5 * time.Second))
		acked := func(t paho.Token) bool { return t.WaitTimeout(5*time.Second) && t.Error() == nil }
		for ok := acked(c.Connect()); ok && ctx.Err() == nil; {
			n := sent.Load()
			at := from.Add(time.Duration(n) * 100 * time.Millisecond)
			if ok = acked(c.Publish(topic, 1, false, fmt.Sprintf(`{"t":%d,"v":%d}`, at.UnixMilli(), n))); ok {
				sent.Add(1)
			}
		}
		c.Disconnect(0)
		if time.Now().After(deadline) {
			return fmt.Errorf("%s: after %d readings nothing was acknowledged any more", topic, sent.Load())
		}
		time.Sleep(10 * time.Millisecond)
	}
	return nil
}
