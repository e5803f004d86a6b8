package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/simonvetter/modbus"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/certs/certstest"
)

// A panel has the registers of the guide's: those named here, else each its own address.
type panel struct{}

var panelWords = map[uint16]uint16{
	0:  0,
	1:  0x4148,
	10: 0x2345,
	11: 0x0001,
	17: 1,
	24: 'o'<<8 | 'p',
	25: 'e'<<8 | 'n',
	26: 0,
	27: 0,
}

func registersFrom(first, count uint16) (out []uint16) {
	for a := first; a < first+count; a++ {
		word, special := panelWords[a]
		if !special {
			word = a
		}
		out = append(out, word)
	}
	return out
}

func (panel) HandleCoils(r *modbus.CoilsRequest) ([]bool, error) {
	return make([]bool, r.Quantity), nil
}

func (panel) HandleDiscreteInputs(*modbus.DiscreteInputsRequest) ([]bool, error) {
	return nil, modbus.ErrIllegalFunction
}

func (panel) HandleInputRegisters(r *modbus.InputRegistersRequest) ([]uint16, error) {
	return registersFrom(r.Addr, r.Quantity), nil
}

func (panel) HandleHoldingRegisters(r *modbus.HoldingRegistersRequest) ([]uint16, error) {
	return registersFrom(r.Addr, r.Quantity), nil
}

const guideGateway = `
data: %[1]s/gateway
listen: 127.0.0.1:0
keep: [{ select: "#", tier: readings, for: 3650d }]
gateway:
  site: alder-weir
  series:
    - %[2]s
    - { select: +/pump-1/valve, kind: state, states: { closed: 0, open: 1 } }
    - { select: +/inlet/direction, kind: state, states: { forward: 0, reverse: 1 } }
    - { select: +/+/online, kind: state, states: { away: 0, here: 1 } }
    - { select: +/inlet-gate/Gate/Drive, kind: state, states: { resting: 0, moving: 1, blocked: 2 } }
  sources:
`

// guide is docs/field.md: its snippets of a language, in order.
func guide(t *testing.T, language string) (out []string) {
	text, err := os.ReadFile(filepath.Join(sourceDir(), "..", "..", "docs", "field.md"))
	require.NoError(t, err)
	for _, m := range regexp.MustCompile("(?s)```"+language+"\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		out = append(out, m[1])
	}
	return out
}

func TestTheFieldGuideWorksAsItIsWritten(t *testing.T) {
	dir := t.TempDir()
	ca := certstest.New(t, dir)
	ca.Make(t, "listener")
	ca.Make(t, "broker")
	const password = "salmon run at dawn"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte(password), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mast-secret"), []byte("a feather on the water"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "archive-secret"), []byte("a stone in the river"), 0o600))
	require.NoError(t,
		os.CopyFS(dir, os.DirFS(filepath.Join(sourceDir(), "..", "..", "internal", "demo", "configs", "devices"))))
	program, err := binary()
	require.NoError(t, err)
	account := exec.Command(program, "password", "mast")
	account.Stdin = strings.NewReader(password + "\n")
	line, err := account.Output()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "accounts"), line, 0o600))

	own, broker, logger, gates, probes, raceways, texts := freePort(t), freePort(t), freePort(t), freePort(t), freePort(t), freePort(t), freePort(t)
	made := exec.Command(need(t, "mosquitto_passwd"), "-b", "-c", filepath.Join(dir, "passwords"), "gateway", password)
	out, err := made.CombinedOutput()
	require.NoError(t, err, string(out))
	conf := filepath.Join(dir, "mosquitto.conf")
	require.NoError(t,
		os.WriteFile(conf,
			fmt.Appendf(nil,
				"user root\nlistener %[2]s 127.0.0.1\ncertfile %[1]s/broker.pem\nkeyfile %[1]s/broker.key\npassword_file %[1]s/passwords\nallow_anonymous false\n",
				dir, broker),
			0o600))
	start(t, need(t, "mosquitto"), "-c", conf)
	at := "tcp://127.0.0.1:" + freePort(t)
	device, err := modbus.NewServer(&modbus.ServerConfiguration{URL: at}, panel{})
	require.NoError(t, err)
	require.NoError(t, device.Start())
	defer func() { _ = device.Stop() }()
	start(t, program, "simulate", "probes", "--listen", "127.0.0.1:"+probes)

	sources := strings.Join(guide(t, "yaml"), "")
	text, err := os.ReadFile(filepath.Join(sourceDir(), "..", "..", "docs", "field.md"))
	require.NoError(t, err)
	rule := regexp.MustCompile("`({ select: .*?} })`").FindStringSubmatch(string(text))[1]
	for _, change := range [][2]string{
		{"/etc/nexocumula", dir}, {"0.0.0.0:8883", "127.0.0.1:" + own}, {"broker.stony-beck.example:8883", "127.0.0.1:" + broker},
		{"127.0.0.1:1883", "127.0.0.1:" + logger}, {"127.0.0.1:1883", "127.0.0.1:" + gates},
		{"127.0.0.1:1884", "127.0.0.1:" + raceways}, {"127.0.0.1:1885", "127.0.0.1:" + texts},
		{"tcp://10.20.0.7:502", at}, {"rtu:///dev/ttyS0", "rtu+tcp://127.0.0.1:" + probes}, {"    parity: even\n", ""}, // terminals here know no parity
	} {
		require.Contains(t, sources, change[0])
		n := 1
		if change[0][0] == '/' {
			n = -1
		}
		sources = strings.Replace(sources, change[0], change[1], n)
	}
	config := fmt.Sprintf(guideGateway, dir, rule) + regexp.MustCompile(`(?m)^`).ReplaceAllString(sources, "    ")
	_, gateway := service(t, dir, "gateway", config)
	start(t, program, "simulate", "gate", "--broker", "tcp://127.0.0.1:"+gates, "--every", "1s")

	eventually(t, "every source is up", func() bool {
		h, err := gateway.Health(t.Context())
		if err != nil {
			return false
		}
		for _, s := range h.Gateway.Sources {
			if !s.Up {
				return false
			}
		}
		return true
	})
	now := time.Now()
	zone, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	publish(t, own, "mast/wind", []string{"5"}, "--cafile", ca.CA, "-u", "mast", "-P", password, "-q", "1")
	publish(t, broker, "cage/a/state",
		[]string{fmt.Sprintf(`{"at":%q,"water":{"oxygen":8.5},"battery_mv":12500}`, now.Format(time.RFC3339))},
		"--cafile", ca.CA, "-u", "gateway", "-P", password, "-q", "1")
	for topic, payload := range map[string]string{
		"logger/batch":       `{"sent":1772352060,"rows":[{"t":1772352000,"id":"buoy-1","v":{"oxygen":9.2}}]}`,
		"logger/text":        now.In(zone).Format("02.01.2006 15:04:05") + ";4,12 m;open|",
		"logger/level/well":  "412 cm",
		"senml/north":        `[{"bn":"urn:dev:mac:0024befffe804ff1:","n":"temp","u":"Cel","v":11.5}]`,
		"cbor/pump":          "\xa1\x61p\x04", // {"p": 4}
		"logger/level/weir":  "nothing",
		"logger/unheard-of/": "1",
	} {
		publish(t, logger, topic, []string{payload}, "-q", "1")
	}
	for topic, payload := range map[string]string{
		"raceway/9/state": `{"pump":"ON","temp":"21,5 °C","depths":[14.2,11.8],"status":5,"level":{"value":4.1,"unit":"m"},"flow":null}`,
		"raceway/9/burst": fmt.Sprintf(`{"at":%q,"pressure":[1.1,1.2,1.3]}`,
			now.Add(-time.Minute).Format(time.RFC3339)),
		"radio/any": `{"id":"rw-1","port":2,"data":"AgDX/+w="}`,
	} {
		publish(t, raceways, topic, []string{payload}, "-q", "1")
	}
	for topic, payload := range map[string]string{
		"panel/log":    now.In(zone).Format("2006-01-02 15:04:05") + " INFO probe 3: temp=21.5",
		"panel/csv":    now.In(zone).Format("02.01.2006;15:04:05") + `;"4,5"`,
		"mast/weather": `<station id="lake-mast"><wind speed="7.8" from="339"/></station>`,
		"pump/state":   "\x81\xa4flow\x0c",
		"probes":       "\x02\x1a\x01\xd7\x1b\x01\xcd",
	} {
		publish(t, texts, topic, []string{payload}, "-q", "1")
	}
	var posted int
	for _, block := range guide(t, "sh") {
		if strings.Contains(block, "/api/v1/readings") {
			token := password
			if strings.Contains(block, "?topic=") {
				token = "a feather on the water"
			}
			posted += post(t, block, gateway.Base(), token)
		} else {
			bringIn(t, dir, program, block, gateway.Base())
		}
	}
	assert.Equal(t, 2, posted, "the guide shows two requests")
	read, err := exec.Command(program, "source", "read", "panel", "meters", "--at", gateway.Base()).CombinedOutput()
	assert.NoError(t, err, string(read))

	for path, wanted := range map[string]float64{
		"mast/wind": 5, "mast/online": -1, "a/oxygen": 8.5, "a/battery": 12.5,
		"buoy-1/oxygen": 9.2, "well/level": 4.12, "gate/position": 1, "0024befffe804ff1/temp": 11.5, "pump/pressure": 4,
		"inlet-gate/Gate/Opening": -1, "inlet-gate/online": 1, "gate-control/online": 1,
		"pump-1/flow": 12.5, "pump-1/hours": 12345, "pump-1/torque": 1.4, "pump-1/power": 160, "pump-1/mode": 1, "pump-1/valve": 1, "pump-1/temperature": 3, "well-8/level": 0.47, "pump-1/running": 0,
		"raceway-1/oxygen": -1, "raceway-2/water_temp": -1,
		"mast/wind_speed": 7.8, "raceway-1/OX2": 7.25,
		"9/temp": 21.5, "9/temp_2": 11.8, "9/fault": 1, "9/level": 4.1, "9/pressure": 1.3, "rw-1/battery": 2, "rw-1/temp": 21.5,
		"panel/temp": 21.5, "panel/level": 4.5, "lake-mast/wind_speed": 7.8, "pump/flow": 12, "probe-1a/temp": 47.1, "probe-1b/temp": 46.1,
	} {
		var got float64
		eventually(t, path+" has a value", func() bool {
			values, err := gateway.Now(t.Context(), "alder-weir/"+path)
			if err != nil || len(values.Values) != 1 {
				return false
			}
			got = float64(values.Values[0].Value)
			return true
		})
		if wanted >= 0 {
			assert.InDelta(t, wanted, got, 1e-6, path)
		}
	}
	rejects, err := gateway.Rejects(t.Context(), client.RejectFilter{Source: "logger", Limit: 10})
	require.NoError(t, err)
	assert.Len(t, rejects.Rejects, 2, "what the guide does not name is told")
}

// post runs a snippet with curl.
func post(t *testing.T, snippet, base, token string) int {
	cmd := exec.CommandContext(t.Context(), "bash", "-ec", strings.ReplaceAll(snippet, "http://127.0.0.1:8460", base))
	cmd.Env = append(os.Environ(), "TOKEN="+token)
	text, err := cmd.Output()
	require.NoError(t, err, snippet)
	assert.JSONEq(t, `{"accepted":1,"refused":0,"rows":[]}`, string(text))
	return 1
}

// bringIn runs a snippet that brings in a file of history.
func bringIn(t *testing.T, dir, program, snippet, base string) {
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "history.csv"), []byte("Zeit;OX1;OX2\n01.02.2026 08:00;8,5;7,25\n"), 0o600))
	cmd := exec.CommandContext(t.Context(), "/bin/sh", "-ec", snippet)
	cmd.Dir = dir
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "bin"), 0o755))
	require.NoError(t, os.Symlink(program, filepath.Join(dir, "bin", "nexocumula")))
	cmd.Env = append(os.Environ(), "PATH="+filepath.Join(dir, "bin")+":"+os.Getenv("PATH"), "NEXOCUMULA_AT="+base)
	out, err := cmd.CombinedOutput()
	assert.NoError(t, err, string(out))
}
