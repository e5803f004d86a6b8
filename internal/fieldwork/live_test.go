package fieldwork_test

import (
	"fmt"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/fieldwork"
	"nexocumula/internal/kinds"
	"nexocumula/internal/sim"
)

func free(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

const reached = `data: ./data
gateway:
  site: alder-weir
  series:
    - { select: +/+/inflow, unit: l/s, low: 0, high: 400 }
    - { select: +/+/level, unit: m, high: 0.001 }
  sources:
    - name: panel
      modbus:
        address: %[1]s
        timeout: 200ms
        registers:
          - { table: holding, address: 0, scale: 0.1, series: hatchery/inflow }
          - { table: holding, address: 1, scale: 0.01, series: header-tank/level }
          - { table: holding, address: 2, series: hatchery/raw_temp }
          - { table: holding, address: 5, series: hatchery/nothing }
    - name: gone
      modbus: { address: "tcp://%[2]s", timeout: 200ms, registers: [{ table: input, address: 0, series: x/y }] }
    - name: broker
      mqtt_broker: { address: "tcp://%[2]s", messages: [{ topic: "a/{b}", series: "{b}/c" }] }
    - name: listener
      mqtt_listener: { address: "127.0.0.1:0", messages: [{ topic: "a/{b}", series: "{b}/d" }] }
    - name: taken
      mqtt_listener: { address: "%[3]s", messages: [{ topic: "a/{b}", series: "{b}/e" }] }
  uplinks: [{ name: head-office, address: "http://%[2]s", secret_env: TROUT }]
`

func TestWhatWorksAndWhatDoesNotIsSaidLineByLine(t *testing.T) {
	t.Setenv("TROUT", "secret")
	panel, err := sim.PumpPanel(sim.Field{Seed: 4}, free(t))
	require.NoError(t, err)
	defer panel.Close()
	occupied, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer occupied.Close()
	settings, err := config.Parse("f.yaml", []byte(fmt.Sprintf(reached, panel.Address, free(t), occupied.Addr())),
		kinds.All)
	require.NoError(t, err)
	all := fieldwork.CheckLive(t.Context(), settings, 5*time.Second)
	find := func(of, series, says string) *client.CheckedLive {
		for i, one := range all {
			if one.Of == of && one.Series == series &&
				(says == "" || assert.ObjectsAreEqual(says, one.Says[:min(len(says), len(one.Says))])) {
				return &all[i]
			}
		}
		require.Failf(t, "it is not said", "%s %s %q among %+v", of, series, says, all)
		return nil
	}
	assert.True(t, find("panel", "", "unit 1 answers").Works, "one register that is not given spoils no other")
	assert.False(t, find("panel", "", `unit 1, holding 5: the device answers "illegal data address"`).Works)
	flow := find("panel", "alder-weir/hatchery/inflow", "")
	assert.True(t, flow.Works)
	assert.Equal(t, "l/s", flow.Unit)
	assert.NotEmpty(t, flow.Value)
	level := find("panel", "alder-weir/header-tank/level", "value ")
	assert.False(t, level.Works, "what its rule would reject does not work")
	assert.Contains(t, level.Says, "above the range's high end 0.001")
	assert.True(t, find("panel", "alder-weir/hatchery/raw_temp", "").Works)
	assert.False(t, find("gone", "", "unit 1, input 0: ").Works)
	assert.False(t, find("broker", "", "a/+: connecting to the broker").Works)
	assert.True(t, find("listener", "", "devices can connect").Works)
	assert.False(t, find("taken", "", occupied.Addr().String()).Works)
	assert.False(t, find("head-office", "", "").Works)
}
