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

const panelConfig = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: alder-weir
  series: [{ select: alder-weir/panel/valve, kind: state, states: { CLOSED: 0, OPEN: 1 } }]
  sources:
    - name: panel
      modbus:
        address: %[2]s
        %[3]s
        every: 200ms
        timeout: 1s
        groups: [{ name: meters, every: on_demand }]
        devices: [{ description: %[1]s/panel.csv, unit: 3, station: panel }]
        registers:
          # nobody answers for this unit, which comes before the others
          - { unit: 2, table: input, address: 0, series: panel/silent }
`

const panelDescription = `table,address,type,series,word_order,byte_order,scale,offset,length,count,step,scale_register,group
# one of each type
holding,0,,uint16,,,0.1,,,,,,
holding,1,int16,int16,,,0.01,1,,,,,
holding,10,uint32,uint32,,,,,,,,,
holding,12,uint32,uint32_low,low_first,,,,,,,,
holding,14,int32,int32,,,,,,,,,
holding,20,float32,float32,,,,,,,,,
holding,22,float32,float32_low,low_first,,,,,,,,
holding,30,uint64,uint64,,,,,,,,,
holding,34,int64,int64,,,,,,,,,
holding,38,float64,float64,,,,,,,,,
holding,42,float64,float64_low,low_first,,,,,,,,
holding,0,bool,bool,,,,,,,,,
input,5,,input,,,,,,,,,
coil,0,,coil_0,,,,,,,,,
coil,1,,coil_1,,,,,,,,,
discrete_input,0,,discrete_0,,,,,,,,,
discrete_input,1,,discrete_1,,,,,,,,,
holding,60,bcd32,bcd32,,,,,,,,,
holding,62,magnitude16,magnitude16,,,,,,,,,
holding,64,int16,scaled,,,,,,,,65,
holding,70,,array_{n},,,,,,3,2,,
holding,80,text,valve,,,,,3,,,,
holding,90,int48,int48,,,,,,,,,
holding,94,,swapped,,low_first,,,,,,,
holding,50,float32,broken,,,,,,,,,
# the device has no such register: its neighbour must not suffer
input,6,,missing,,,,,,,,,
holding,10,uint32,meter,,,,,,,,,meters
`

// As device.py and device.c have them, scaled by hand.
var panelValues = map[string]float64{
	"uint16": 91.4, "int16": -1.15, "uint32": 3000000001, "uint32_low": 3000000002, "int32": -70001,
	"float32": 4.25, "float32_low": -0.5, "uint64": 5000000000, "int64": -5000000001, "float64": 0.001, "float64_low": 12345.678,
	"bool": 1, "input": 77, "coil_0": 0, "coil_1": 1, "discrete_0": 1, "discrete_1": 0,
	"bcd32": 12345678, "magnitude16": -5, "scaled": 12.34, "array_1": 11, "array_2": 12, "array_3": 13, "valve": 1, "int48": -123456789012, "swapped": 0x4142,
}

// serialLine returns a pair of terminals with a wire between them.
func serialLine(t *testing.T, dir string) (device, gateway string) {
	device, gateway = filepath.Join(dir, "ttyA"), filepath.Join(dir, "ttyB")
	start(t, need(t, "socat"), "pty,raw,echo=0,link="+device, "pty,raw,echo=0,link="+gateway)
	eventually(t, "the serial line is there", func() bool {
		_, a := os.Stat(device)
		_, b := os.Stat(gateway)
		return a == nil && b == nil
	})
	return device, gateway
}

// inC returns the other device, which speaks through libmodbus.
func inC(t *testing.T, dir string) string {
	program := filepath.Join(dir, "device")
	out, err := exec.Command(need(t, "gcc"), "-o", program, filepath.Join(sourceDir(), "peers", "device.c"),
		"-lmodbus").CombinedOutput()
	require.NoError(t, err, string(out))
	return program
}

func TestEveryTypeOfForeignModbusDevicesIsReadOverEveryWay(t *testing.T) {
	script := []string{"/usr/bin/python3", filepath.Join(sourceDir(), "peers", "device.py")}
	for _, test := range []struct {
		name, way string
		inC       bool
	}{
		{"pymodbus over TCP", "tcp", false}, {"pymodbus over UDP", "udp", false}, {"pymodbus over TLS", "tls", false}, {"pymodbus serial framing over TCP", "rtu+tcp", false},
		{"pymodbus serial framing over UDP", "rtu+udp", false}, {"pymodbus on a serial line", "rtu", false}, {"libmodbus over TCP", "tcp", true}, {"libmodbus on a serial line", "rtu", true},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			dir, port := t.TempDir(), freePort(t)
			address, keys := test.way+"://127.0.0.1:"+port, ""
			program := script
			if test.inC {
				program = []string{inC(t, dir)}
			}
			where := port
			var extra []string
			switch test.way {
			case "rtu":
				var own string
				where, own = serialLine(t, dir)
				address, keys = "rtu://"+own, "parity: none" // the wire between two terminals has none
			case "tls":
				authority := certstest.New(t, dir)
				cert, key := authority.Make(t, "device")
				extra = []string{authority.CA, cert, key}
				cert, key = authority.Make(t, "gateway")
				keys = fmt.Sprintf("tls: { ca: %s, cert: %s, key: %s }", authority.CA, cert, key)
			}
			device := start(t, program[0], append(append(program[1:], test.way, where), extra...)...)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "panel.csv"), []byte(panelDescription), 0o600))
			_, gateway := service(t, dir, "gateway", fmt.Sprintf(panelConfig, dir, address, keys))
			panelIsRead(t, gateway)
			if test.way == "tcp" {
				panelIsMissed(t, gateway, device, func() {
					start(t, program[0], append(program[1:], test.way, where)...)
				})
			}
		})
	}
}

func panelIsRead(t *testing.T, gateway *client.Client) {
	eventually(t, "all registers are read", func() bool {
		now, err := gateway.Now(t.Context(), "")
		return err == nil && len(now.Values) >= len(panelValues)
	})
	now, err := gateway.Now(t.Context(), "")
	require.NoError(t, err)
	got := map[string]float64{}
	for _, v := range now.Values {
		got[v.Path[len("alder-weir/panel/"):]] = float64(v.Value)
	}
	require.Len(t, got, len(panelValues),
		"neither the broken probe nor the missing register has a value, and the meter was not asked for")
	for name, value := range panelValues {
		assert.InDelta(t, value, got[name], 1e-9, name)
	}
	read, err := gateway.ReadSource(t.Context(), "panel", "meters")
	require.NoError(t, err)
	assert.Equal(t, client.SourceRead{Readings: 1, Failed: []string{}}, read)
	_, err = gateway.ReadSource(t.Context(), "pump", "")
	assert.ErrorContains(t, err, `no source that asks devices is called "pump"; there is panel`)

	health, err := gateway.Health(t.Context())
	require.NoError(t, err)
	source := health.Gateway.Sources[0]
	assert.True(t, source.Up)
	wrong := strings.Join(source.Absent, "\n")
	assert.Contains(t, wrong, "unit 2 has not answered since")
	assert.Contains(t, wrong, "unit 3, input 6 is not given since")
	assert.Contains(t, wrong, "illegal data address")
	assert.NotZero(t, source.Line.Requests)
	assert.NotZero(t, source.Line.AnswerHalf)
	assert.NotZero(t, source.Line.Exceptions["illegal data address"])
	kept, err := gateway.Rejects(t.Context(), client.RejectFilter{Source: "panel", Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, "unit 3, holding 50", kept.Rejects[0].Place)
	assert.Equal(t, "alder-weir/panel/broken: value is NaN, which is no measurement", kept.Rejects[0].Reason)
	assert.Equal(t, []byte{0x7f, 0xc0, 0, 0}, kept.Rejects[0].Raw)
}

func panelIsMissed(t *testing.T, gateway *client.Client, device *process, again func()) {
	device.kill()
	eventually(t, "the silence is noticed", func() bool {
		h, err := gateway.Health(t.Context())
		return err == nil && !h.Gateway.Sources[0].Up && h.Status == "trouble"
	})
	before := lastOf(t, gateway, "alder-weir/panel/input")
	again()
	eventually(t, "polling goes on when the device is back", func() bool {
		return lastOf(t, gateway, "alder-weir/panel/input").After(before)
	})
}

func lastOf(t *testing.T, gateway *client.Client, path string) time.Time {
	now, err := gateway.Now(t.Context(), path)
	require.NoError(t, err)
	return now.Values[0].Time
}
