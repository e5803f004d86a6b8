package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const sparkplugGateway = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: long-mere
  series:
    - { select: +/+/valve, kind: state, states: { closed: 0, open: 1 } }
    - { select: +/+/online, kind: state, states: { away: 0, here: 1 } }
  sources:
    - name: buoys
      %[2]s
        sparkplug:
          presence: "{device}/online"
          node_presence: "{node}/online"
          metrics: [{ name: Water/temp, series: "{device}/water_temp", scale: 0.01 }, { name: profile, skip: true }]
`

func TestAForeignSparkplugNodeIsHeardOverEveryWay(t *testing.T) {
	for name, source := range map[string]string{
		"a broker, MQTT 3.1.1": "mqtt_broker:\n        address: tcp://127.0.0.1:%s",
		"a broker, MQTT 5":     "mqtt_broker:\n        version: 5\n        address: tcp://127.0.0.1:%s",
		"the own listener":     "mqtt_listener:\n        address: 127.0.0.1:%s",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, port := t.TempDir(), freePort(t)
			out, err := exec.Command(need(t, "protoc"), "--proto_path="+filepath.Join(sourceDir(), "peers"),
				"--python_out="+dir, "sparkplug_b.proto").CombinedOutput()
			require.NoError(t, err, string(out))
			if strings.Contains(name, "broker") {
				start(t, need(t, "mosquitto"), "-p", port)
				eventually(t, "the broker listens", func() bool { return reachable(port) })
			}
			_, gateway := service(t, dir, "gateway", fmt.Sprintf(sparkplugGateway, dir, fmt.Sprintf(source, port)))
			eventually(t, "the broker listens", func() bool { return reachable(port) })
			script, err := os.ReadFile(filepath.Join(sourceDir(), "peers", "edge_node.py"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "edge_node.py"), script, 0o600)) // beside the encoder that was made
			node := start(t, "/usr/bin/python3", filepath.Join(dir, "edge_node.py"), port)

			now := func() map[string]float64 {
				answer, err := gateway.Now(t.Context(), "")
				require.NoError(t, err)
				out := map[string]float64{}
				for _, v := range answer.Values {
					out[strings.TrimPrefix(v.Path, "long-mere/")] = float64(v.Value)
				}
				return out
			}
			eventually(t, "the node asked again for its birth goes on",
				func() bool { return now()["buoy-1/count"] > 40 })
			got := now()
			for path, value := range map[string]float64{
				"gate/battery":      12.5,
				"buoy-1/water_temp": -2.15,
				"buoy-1/valve":      1,
				"buoy-1/online":     1,
				"gate/online":       1,
			} {
				assert.Equal(t, value, got[path], path)
			}
			assert.Equal(t, 1, strings.Count(node.output.String(), "asked to be born again"))
			health, err := gateway.Health(t.Context())
			require.NoError(t, err)
			assert.Contains(t, fmt.Sprint(health.Gateway.Sources[0].Faults), "some are missing")
			rejects, err := gateway.Rejects(t.Context(), client.RejectFilter{Limit: 10})
			require.NoError(t, err)
			assert.Empty(t, rejects.Rejects)
			node.kill()
			eventually(t, "its death is noticed", func() bool {
				got := now()
				return got["buoy-1/online"] == 0 && got["gate/online"] == 0
			})
			left, err := gateway.Now(t.Context(), "+/buoy-1/water_temp")
			require.NoError(t, err)
			require.Len(t, left.Values, 1)
			assert.NotNil(t, left.Values[0].Ended)
			assert.Equal(t, "stale", left.Values[0].Condition, "what it measured does not hold any more")
		})
	}
}
