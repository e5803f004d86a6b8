package e2e

import (
	"fmt"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const panelConfig = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: alder-weir
  sources:
    - name: panel
      modbus:
        address: tcp://127.0.0.1:%[2]s
        unit: 3
        every: 200ms
        timeout: 300ms
        registers:
          - { table: holding, address: 0, scale: 0.1, series: panel/uint16 }
          - { table: holding, address: 1, type: int16, scale: 0.01, offset: 1, series: panel/int16 }
          - { table: holding, address: 10, type: uint32, series: panel/uint32 }
          - { table: holding, address: 12, type: uint32, word_order: low_first, series: panel/uint32_low }
          - { table: holding, address: 14, type: int32, series: panel/int32 }
          - { table: holding, address: 20, type: float32, series: panel/float32 }
          - { table: holding, address: 22, type: float32, word_order: low_first, series: panel/float32_low }
          - { table: holding, address: 30, type: uint64, series: panel/uint64 }
          - { table: holding, address: 34, type: int64, series: panel/int64 }
          - { table: holding, address: 38, type: float64, series: panel/float64 }
          - { table: holding, address: 42, type: float64, word_order: low_first, series: panel/float64_low }
          - { table: holding, address: 0, type: bool, series: panel/bool }
          - { table: input, address: 5, series: panel/input }
          - { table: coil, address: 0, series: panel/coil_0 }
          - { table: coil, address: 1, series: panel/coil_1 }
          - { table: discrete_input, address: 0, series: panel/discrete_0 }
          - { table: discrete_input, address: 1, series: panel/discrete_1 }
          - { table: holding, address: 50, type: float32, series: panel/broken }
          # nobody answers for this unit, which comes before the others
          - { unit: 2, table: input, address: 0, series: panel/silent }
          # the device has no such register: its neighbour must not suffer
          - { table: input, address: 6, series: panel/missing }
`

func TestEveryTypeOfAForeignModbusDeviceIsRead(t *testing.T) {
	dir, port := t.TempDir(), freePort(t)
	_, here, _, _ := runtime.Caller(0)
	script := filepath.Join(filepath.Dir(here), "device.py")
	device := start(t, "/usr/bin/python3", script, port)
	eventually(t, "the device listens", func() bool { return reachable(port) })
	_, gateway := service(t, dir, "gateway", fmt.Sprintf(panelConfig, dir, port))

	// As device.py has them, scaled by hand.
	wanted := map[string]float64{
		"uint16": 91.4, "int16": -1.15, "uint32": 3000000001, "uint32_low": 3000000002, "int32": -70001,
		"float32": 4.25, "float32_low": -0.5, "uint64": 5000000000, "int64": -5000000001, "float64": 0.001, "float64_low": 12345.678,
		"bool": 1, "input": 77, "coil_0": 0, "coil_1": 1, "discrete_0": 1, "discrete_1": 0,
	}
	eventually(t, "all registers are read", func() bool {
		now, err := gateway.Now(t.Context(), "")
		return err == nil && len(now.Values) >= len(wanted)
	})
	now, err := gateway.Now(t.Context(), "")
	require.NoError(t, err)
	got := map[string]float64{}
	for _, v := range now.Values {
		got[v.Path[len("alder-weir/panel/"):]] = float64(v.Value)
	}
	require.Len(t, got, len(wanted), "neither the broken probe nor the missing register has a value")
	for name, value := range wanted {
		assert.InDelta(t, value, got[name], 1e-9, name)
	}

	health, err := gateway.Health(t.Context())
	require.NoError(t, err)
	source := health.Gateway.Sources[0]
	assert.True(t, source.Up)
	faults := map[string]string{}
	for _, f := range source.Faults {
		faults[f.Place] = f.Message
	}
	assert.Contains(t, faults["unit 3, input 6"], "illegal data address")
	assert.Contains(t, faults["unit 2, input 0"], "timed out")
	kept, err := gateway.Rejects(t.Context(), "panel", 1)
	require.NoError(t, err)
	assert.Equal(t, "unit 3, holding 50", kept.Rejects[0].Place)
	assert.Equal(t, "alder-weir/panel/broken: value is NaN, which is no measurement", kept.Rejects[0].Reason)
	assert.Equal(t, []byte{0x7f, 0xc0, 0, 0}, kept.Rejects[0].Raw)

	device.kill()
	eventually(t, "the silence is noticed", func() bool {
		h, err := gateway.Health(t.Context())
		return err == nil && !h.Gateway.Sources[0].Up && h.Status == "trouble"
	})
	before := lastOf(t, gateway, "alder-weir/panel/input")
	start(t, "/usr/bin/python3", script, port)
	eventually(t, "polling goes on when the device is back", func() bool { return lastOf(t, gateway, "alder-weir/panel/input").After(before) })
}

func lastOf(t *testing.T, gateway *client.Client, path string) time.Time {
	now, err := gateway.Now(t.Context(), path)
	require.NoError(t, err)
	return now.Values[0].Time
}
