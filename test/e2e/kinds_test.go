package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const pumpConfig = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: long-mere
  series:
    - { select: +/+/total, kind: counter, wrap: 1000, unit: l, fresh_for: 30s, labels: { panel: north } }
    - { select: +/+/running, kind: state, fresh_for: 30s, labels: { panel: north } }
    - { select: +/+/flow, unit: l/s, fresh_for: 30s, sketch: true }
  sources:
    - name: own
      mqtt_listener:
        address: 127.0.0.1:%[2]s
        messages:
          - topic: pump/{pump}/state
            payload: json
            time: /at
            time_form: unix_ms
            values:
              - { at: /total, series: "{pump}/total" }
              - { at: /running, series: "{pump}/running" }
              - { at: /flow, series: "{pump}/flow" }
  uplinks:
    - { name: head-office, address: "http://127.0.0.1:%[3]s", secret_file: %[1]s/secret }
`

// pump is a pump's report at one moment.
type pump struct {
	at             time.Time
	total, running int
	flow           float64
}

// runOfPump returns an hour, twenty seconds apart: the total wraps at 1000 several times and
// starts again from 0 once; the pump goes on and off.
func runOfPump(begin time.Time) (out []pump, grown, restarts, changes int) {
	total := 900
	for i := range 180 {
		p := pump{at: begin.Add(time.Duration(i) * 20 * time.Second), running: i / 7 % 2, flow: float64(i%50) / 10}
		switch {
		case i == 91: // from 230, which is too far for a wrap
			total, grown, restarts = 5, grown+5, restarts+1
		case i > 0:
			total, grown = (total+37)%1000, grown+37
		}
		if i > 0 && out[i-1].running != p.running {
			changes++
		}
		p.total = total
		out = append(out, p)
	}
	return out, grown, restarts, changes
}

// relayConfig has a central send all that it holds to one above it, which is topConfig's.
const relayConfig = `  name: north-office
  uplinks:
    - { name: head-office, address: "http://127.0.0.1:%[2]s", secret_file: %[1]s/secret }
`

const topConfig = `
data: %[1]s/top
listen: 127.0.0.1:%[2]s
central:
  accept:
    - { gateway: north-office, sites: [long-mere], secret_file: %[1]s/secret }
`

func TestCountersStatesAndSketchesReachTheCentralInAnyOrder(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("trout"), 0o600))
	ownPort, centralPort, topPort := freePort(t), freePort(t), freePort(t)
	_, top := service(t, dir, "top", fmt.Sprintf(topConfig, dir, topPort))
	_, central := service(t, dir, "central",
		fmt.Sprintf(centralConfig, dir, centralPort)+fmt.Sprintf(relayConfig, dir, topPort))
	_, gateway := service(t, dir, "gateway", fmt.Sprintf(pumpConfig, dir, ownPort, centralPort))
	eventually(t, "the listener is up", func() bool { return reachable(ownPort) })

	begin := time.Now().Add(-3 * time.Hour).Truncate(time.Hour)
	run, grown, restarts, changes := runOfPump(begin)
	lines := make([]string, len(run))
	for i, k := range rand.New(rand.NewPCG(71, 72)).Perm(len(run)) {
		p := run[k]
		lines[i] = fmt.Sprintf(`{"at":%d,"total":%d,"running":%d,"flow":%v}`, p.at.UnixMilli(), p.total, p.running,
			p.flow)
	}
	publish(t, ownPort, "pump/pump-1/state", lines, "-q", "1")

	whole := func(c *client.Client, q client.WindowsQuery) map[string]client.Number {
		q.From, q.To, q.Width = begin, begin.Add(time.Hour), "1h"
		answer, err := c.Windows(t.Context(), q)
		if err != nil || len(answer.Series) == 0 {
			return nil
		}
		return answer.Series[0].Whole.Values
	}
	for name, c := range map[string]*client.Client{
		"gateway":              gateway,
		"central":              central,
		"the central above it": top,
	} {
		var counter map[string]client.Number
		eventually(t, name+" has all of it", func() bool {
			counter = whole(c, client.WindowsQuery{
				Select: []string{"long-mere/pump-1/total"}, Stats: []string{"count", "increase", "restarts", "rate"},
			})
			for _, other := range []string{"running", "flow"} { // series come in no order
				there := whole(c, client.WindowsQuery{Select: []string{"long-mere/pump-1/" + other}, Stats: []string{"count"}})
				if there["count"] != 180 {
					return false
				}
			}
			return counter["count"] == 180
		})
		assert.EqualValues(t, grown, counter["increase"], name)
		assert.EqualValues(t, restarts, counter["restarts"], name)
		assert.InDelta(t, float64(grown)/(179*20), float64(counter["rate"]), 1e-9, name)
		state := whole(c, client.WindowsQuery{
			Select: []string{"long-mere/pump-1/running"},
			Stats:  []string{"changes", "duration:0", "duration:1", "share:1", "coverage"},
		})
		on := 0
		for _, p := range run {
			on += 20 * p.running
		}
		assert.EqualValues(t, changes, state["changes"], name)
		assert.EqualValues(t, on, state["duration:1"], name)
		assert.EqualValues(t, 3600-on, state["duration:0"], name)
		assert.EqualValues(t, 1, state["coverage"], name)
	}
	var estimated map[string]client.Number
	eventually(t, "the sketches are there", func() bool {
		estimated = whole(central,
			client.WindowsQuery{Select: []string{"long-mere/pump-1/flow"}, Stats: []string{"p90~"}})
		return estimated["p90~"] == estimated["p90~"] // not NaN
	})
	exact := whole(gateway, client.WindowsQuery{Select: []string{"long-mere/pump-1/flow"}, Stats: []string{"p90"}})
	assert.InEpsilon(t, float64(exact["p90"]), float64(estimated["p90~"]), 0.03, "within 1 %, and a step of the flow")
}
