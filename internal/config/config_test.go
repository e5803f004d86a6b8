package config_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
	"nexocumula/internal/kinds"
	"nexocumula/internal/uplink/overhttp"
)

const good = `data: ./data
keep:
  - { select: "long-mere/#", tier: readings, for: 90d }
  - { select: "#", tier: 10s, for: 30d }
queries: { max_rows: 1000, max_time: 5s }
gateway:
  site: long-mere
  series:
    - { select: +/+/oxygen, unit: mg/l, low: 0, high: 20, fresh_for: 90s }
    - { select: +/pump/energy, kind: counter, wrap: 65536, labels: { panel: a, site: b } }
  sources:
    - name: lake
      mqtt_listener:
        address: 127.0.0.1:1883
        messages:
          - { topic: "buoy/{buoy}/state", payload: json, time: /at, values: [{ at: /oxygen, series: "{buoy}/oxygen", scale: 2 }] }
    - name: panel
      modbus:
        address: tcp://10.0.0.7:502
        word_order: low_first
        registers:
          - { table: holding, address: 10, type: uint32, series: pump/energy }
          - { table: coil, address: 0, unit: 9, series: pump/running }
  uplinks:
    - { name: head-office, address: "https://central:8460/", secret_env: TROUT }
`

func TestAGoodFileBecomesSettings(t *testing.T) {
	t.Setenv("TROUT", "secret")
	s, err := config.Parse("good.yaml", []byte(good), kinds.All)
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:8460", s.Listen, "loopback unless told otherwise")
	assert.Nil(t, s.Central)
	g := s.Gateway
	assert.Equal(t, 90*time.Second, g.Rules[0].FreshFor)
	assert.EqualValues(t, 65536, g.Rules[1].Wrap)
	assert.Equal(t, series.Labels("panel=a,site=b"), g.Rules[1].Labels)
	assert.Equal(t, config.Queries{MaxRows: 1000, MaxSeries: 10_000, MaxTime: 5 * time.Second}, s.Queries)
	days := func(path series.Path, tier series.Tier) time.Duration {
		return config.KeptFor(g.Keep, path, tier) / (24 * time.Hour)
	}
	assert.EqualValues(t, 90, days("long-mere/buoy/oxygen", series.Readings))
	assert.EqualValues(t, 30, days("long-mere/buoy/oxygen", series.TenSecond))
	assert.Zero(t, days("alder-weir/pump/power", series.Readings), "what no line names is kept for good")
	assert.Equal(t, [2]string{"lake", "mqtt_listener"}, [2]string{g.Sources[0].Name, g.Sources[0].Kind})
	assert.Equal(t, [2]string{"panel", "modbus"}, [2]string{g.Sources[1].Name, g.Sources[1].Kind})
	assert.Equal(t, config.Uplink{
		Name: "head-office", Settings: overhttp.Settings{URL: "https://central:8460", Token: "secret"},
		Allow: []string{"readings", "read", "reconcile"}, Print: g.Uplinks[0].Print,
	}, g.Uplinks[0])
}

func TestEveryMistakeIsNamedWithItsPlace(t *testing.T) {
	t.Setenv("TROUT", "secret")
	t.Setenv("EMPTY", "")
	for _, test := range []struct{ from, to, wrong string }{
		{"data: ./data", "datum: ./data", `f.yaml:1:1: key "datum" is not known here`},
		{"data: ./data\n", "", "f.yaml:1:1: data: say in which folder the store is"},
		{
			"site: long-mere", "site: long mere",
			`f.yaml:7:9: gateway.site: the site's name, the first level of all its series, "long mere" holds ' '`,
		},
		{
			"select: +/+/oxygen", "select: +/#/oxygen",
			"f.yaml:9:17: gateway.series[0].select: selector \"+/#/oxygen\": # may only be the last level",
		},
		{"low: 0", "low: 30", "f.yaml:9:46: gateway.series[0].low: the low end 30 is above the high end 20"},
		{"fresh_for: 90s", "fresh_for: soon", `gateway.series[0].fresh_for: duration "soon": write a whole number`},
		{
			"address: 127.0.0.1:1883", "address: nowhere",
			`f.yaml:14:18: gateway.sources[0].mqtt_listener.address: "nowhere" is not an address to listen at`,
		},
		{"time: /at", "time: at", "is not a JSON Pointer (RFC 6901)"},
		{
			`series: "{buoy}/oxygen"`, `series: "{boy}/oxygen"`,
			"uses {boy}, which neither topic nor payload binds (there is {buoy})",
		},
		{"payload: json", "payload: yaml", `payload form "yaml" is not known; use number, text, json`},
		{"tcp://10.0.0.7:502", "10.0.0.7", "write tcp://host:port"},
		{"type: uint32", "type: uint24", `register type "uint24" is not known`},
		{
			"table: coil", "table: relay",
			`f.yaml:23:22: gateway.sources[1].modbus.registers[1].table: table "relay" is not known; use coil, discrete_input, holding or input`,
		},
		{"address: 10,", "", "counted from 0 as on the wire"},
		{"address: 10,", "address: 65535,", "address 65535 is not possible for a uint32; use 0 to 65534"},
		{"unit: 9", "unit: 900", "unit id 900 is not possible; use 0 to 255"},
		{"name: panel", "name: lake", `the name "lake" is used twice`},
		{"secret_env: TROUT", "secret_env: EMPTY", "the environment variable EMPTY is not set"},
		{"data: ./data", "data: ./data\nroom: { store: 12 }", `"12" is not possible; write a size of at least 1.0 MB, such as 8GB`},
		{"data: ./data", "data: ./data\nroom: { reserve: much }", `"much" is not possible`},
		{"data: ./data", "data: ./data\nroom: { unsent: maybe }", `"maybe" is not possible; write keep, or drop, for summaries that no central has`},
		{"data: ./data", "data: ./data\nbackup: {}", "say into which folder, such as /mnt/usb/long-mere"},
		{"data: ./data", "data: ./data\nbackup: { folder: ./data/backups }", "is inside of data: what takes that takes its backups as well"},
		{"data: ./data", "data: ./data\nbackup: { folder: /mnt/usb, every: 5s }", "5s is not possible; use 1m to"},
		{"data: ./data", "data: ./data\nbackup: { folder: /mnt/usb, keep: -1 }", "-1 backups not possible; use 1 to 10000"},
		{"data: ./data", "data: ./data\nbackup: { folder: /mnt/usb, recipients: [trout] }", `"trout" is no public key of age`},
		{"data: ./data", "data: ./data\nlog: { format: xml }", `"xml" is no format of a log; use text or json`},
		{"data: ./data", "data: ./data\nlog: { level: loud }", `"loud" is no level of a log; use debug, info, warn or error`},
		{"secret_env: TROUT", "secret_credential: trout", "systemd handed no credentials over"},
		{
			"data: ./data", "data: ./data\nlisten: 0.0.0.0:8460",
			"f.yaml:2:9: listen: other machines reach 0.0.0.0:8460, so it has to be by TLS and with a login: add tls: { self_signed: true }",
		},
		{"data: ./data", "data: ./data\nlisten: \"[::]:8460\"", "other machines reach"},
		{"data: ./data", "data: ./data\nlisten: \":8460\"", "other machines reach"},
		{
			"data: ./data", "data: ./data\nzone: Middle/Earth",
			"f.yaml:2:7: zone: \"Middle/Earth\" is not known; write an IANA name",
		},
		{
			"data: ./data", "data: ./data\nopen: true\naccess: { login: required }",
			"f.yaml:2:7: open: open: true says that nobody has to log in",
		},
		{"data: ./data", "data: ./data\naccess: { login: no }", `access.login: "no" is not possible; write required`},
		{
			"data: ./data", "data: ./data\naccess: { idle_after: 1s }",
			"access.idle_after: 1s is not possible; use 1m to 366d",
		},
		{
			"data: ./data", "data: ./data\naccess: { provider: { issuer: \"http://id.example\" } }",
			"access.provider.issuer: \"http://id.example\" is not possible; write https://host:port",
		},
		{"data: ./data", "data: ./data\ntls: { self_signed: true, cert: a.pem }", "leave it out beside cert:"},
		{"https://central", "ftp://central", "write http://host:port or https://host:port"},
		{
			"tier: 10s", "tier: 1h",
			`f.yaml:4:26: keep[1].tier: tier 1h is not made of any series; there are readings and 10s, 1m`,
		},
		{
			"fresh_for: 90s", "tiers: [10s, 15s]",
			"gateway.series[0].tiers: tier 15s is no multiple of the one before it, 10s",
		},
		{"fresh_for: 90s", "tiers: [100ms]", "tier 100ms is not possible; use whole seconds, from 1s to 1d"},
		{
			"fresh_for: 90s", "thinning: { method: deadband }",
			"gateway.series[0].thinning: a deadband needs within, in the unit of the series",
		},
		{"fresh_for: 90s", "thinning: { method: on_change, longest_silence: 2d }", "longest_silence is 1d at most"},
		{
			"kind: counter, wrap: 65536", "kind: state, thinning: { method: deadband, within: 1 }",
			"a state is thinned by on_change only",
		},
		{
			"max_time: 5s", "max_time: 5s }\ntls: { cert: a.pem",
			"tls: the HTTP interface needs cert: and key:, PEM files",
		},
		{
			"secret_env: TROUT }", "secret_env: TROUT, tls: { ca: none.pem } }",
			"gateway.uplinks[0].tls: the certificate authority cannot be read",
		},
		{
			"\"https://central:8460/\", secret_env: TROUT }",
			"\"http://central:8460/\", secret_env: TROUT, tls: { ca: none.pem } }",
			"tls: is for an address that begins with https:// or tls://",
		},
		{"for: 30d", "for: 3h", "keep[1].for: 3h is too short: keep rows for 1d at least"},
		{"max_rows: 1000", "max_rows: 0", "queries.max_rows: 0 is not possible"},
		{"max_time: 5s", "max_time: long", "queries.max_time"},
		{"kind: counter, ", "", "wrap says how many steps a counter has, such as 65536; this series is a gauge"},
		{"wrap: 65536", "wrap: .nan", "wrap says how many steps a counter has"},
		{"wrap: 65536", "wrap: -1", "wrap says how many steps a counter has"},
		{
			"kind: counter, wrap: 65536", "kind: bearing, sketch: true",
			"a sketch estimates percentiles, which a bearing does not have",
		},
		{"panel: a", "panel: a b", `label panel=a b: "a b" holds ' '`},
		{"site: long-mere", "site: [1", "f.yaml:"},
		{"site: long-mere", "site: long-mere\n  site: other", "f.yaml:8:3"},
	} {
		require.Contains(t, good, test.from)
		_, err := config.Parse("f.yaml", []byte(strings.Replace(good, test.from, test.to, 1)), kinds.All)
		var problems shape.Problems
		require.ErrorAs(t, err, &problems, test.to)
		assert.ErrorContains(t, err, test.wrong, test.to)
	}
}

func TestAllMistakesAreNamedAtOnce(t *testing.T) {
	_, err := config.Parse("f.yaml", []byte("gateway:\n  site: ''\n  sources:\n    - { name: a }\n"), kinds.All)
	var problems shape.Problems
	require.ErrorAs(t, err, &problems)
	assert.Len(t, problems, 3)
	_, err = config.Parse("f.yaml",
		[]byte("datum: d\ngateway:\n  site: a b\n  colour: blue\n  sources:\n    - name: p\n      modbus:\n        adress: x\n        unit: one\n        registers: none\n  uplinks: 7\nlisten: [1]\n"),
		kinds.All)
	require.ErrorAs(t, err, &problems)
	for i, wrong := range []string{
		`f.yaml:1:1: key "datum" is not known here; did you mean data?`,
		"f.yaml:1:1: data: say in which folder",
		`f.yaml:3:9: gateway.site`,
		`f.yaml:4:3: gateway: key "colour" is not known here; known are console, pace, series, site, sources, uplinks`,
		`f.yaml:8:9: gateway.sources[0].modbus: key "adress" is not known here; did you mean address?`,
		`f.yaml:8:9: gateway.sources[0].modbus.address: "" is not the address of a device`,
		`f.yaml:8:9: gateway.sources[0].modbus: nothing is to be read`,
		`f.yaml:9:15: gateway.sources[0].modbus.unit: one is not a whole number`,
		`f.yaml:10:20: gateway.sources[0].modbus.registers: a list belongs here`,
		`f.yaml:11:12: gateway.uplinks: a list belongs here`,
		`f.yaml:12:9: listen: text belongs here`,
	} {
		require.Greater(t, len(problems), i)
		assert.Contains(t, problems[i].Error(), wrong)
	}
	assert.Len(t, problems, 11)
	s, err := config.Parse("f.yaml", []byte("data: d\nx-common: &all { unit: m }\n"), kinds.All)
	assert.ErrorContains(t, err, "x-common", "unknown keys are refused, whatever they hold")
	assert.Empty(t, s.Data)
	_, err = config.Parse("empty.yaml", nil, kinds.All)
	assert.ErrorContains(t, err, "neither gateway: nor central:")
}

func TestSecretsComeFromFiles(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "token")
	text := "data: d\ncentral:\n  accept: [{ gateway: long-mere, secret_file: " + file + " }]\n"
	_, err := config.Parse("c.yaml", []byte(text), kinds.All)
	assert.ErrorContains(t, err, "c.yaml:3:47: central.accept[0].secret_file: the secret cannot be read")
	require.NoError(t, os.WriteFile(file, []byte(" \n"), 0o600))
	_, err = config.Parse("c.yaml", []byte(text), kinds.All)
	assert.ErrorContains(t, err, "is empty where a secret should be")
	require.NoError(t, os.WriteFile(file, []byte("trout\n"), 0o600))
	s, err := config.Parse("c.yaml", []byte(text), kinds.All)
	require.NoError(t, err)
	assert.Equal(t, []config.Accept{{
		Gateway: "long-mere",
		Sites:   []string{"long-mere"},
		Token:   "trout",
	}}, s.Central.Accept)
	_, err = config.Load(filepath.Join(dir, "none.yaml"), kinds.All)
	assert.ErrorContains(t, err, "reading the configuration")
}

func TestASecretMayBeHandedOverBySystemd(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("CREDENTIALS_DIRECTORY", dir)
	t.Setenv("TROUT", "secret")
	text := []byte(strings.Replace(good, "secret_env: TROUT", "secret_credential: uplink", 1))
	_, err := config.Parse("f.yaml", text, kinds.All)
	assert.ErrorContains(t, err, "the secret cannot be read")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "uplink"), []byte("salmon\n"), 0o400))
	settings, err := config.Parse("f.yaml", text, kinds.All)
	require.NoError(t, err)
	assert.Equal(t, "salmon", settings.Gateway.Uplinks[0].Settings.(overhttp.Settings).Token)
	_, err = config.Parse("f.yaml",
		[]byte(strings.Replace(good, "secret_env: TROUT", "secret_env: TROUT, secret_credential: uplink", 1)),
		kinds.All)
	assert.ErrorContains(t, err, "give one of secret_file, secret_env and secret_credential")
	_, err = config.Parse("f.yaml",
		[]byte(strings.Replace(good, "secret_env: TROUT", "secret_credential: ../../etc/passwd", 1)), kinds.All)
	assert.ErrorContains(t, err, "the secret cannot be read", "no way leads out of the folder")
}

func TestWhoHasToLogInFollowsFromWhatIsListenedAt(t *testing.T) {
	t.Setenv("TROUT", "secret")
	for _, test := range []struct {
		lines       string
		login, open bool
	}{
		{"", false, false},
		{"listen: 127.0.0.1:1", false, false}, {"listen: localhost:1", false, false}, {"listen: \"[::1]:1\"", false, false}, {"listen: 127.9.9.9:1", false, false},
		{"access: { login: required }", true, false},
		{"listen: 0.0.0.0:1\ntls: { self_signed: true }", true, false}, {"listen: 10.0.0.1:1\ntls: { self_signed: true }", true, false}, {"listen: pump-house:1\ntls: { self_signed: true }", true, false},
		{"listen: 0.0.0.0:1\nopen: true", false, true}, {"open: true", false, false},
	} {
		settings, err := config.Parse("f.yaml",
			[]byte(strings.Replace(good, "data: ./data\n", "data: ./data\n"+test.lines+"\n", 1)), kinds.All)
		require.NoError(t, err, test.lines)
		assert.Equal(t, [2]bool{test.login, test.open}, [2]bool{settings.Access.Login, settings.Access.Open},
			test.lines)
	}
}

func TestSourcesShareNoPortSessionOrSerialLine(t *testing.T) {
	file := func(first, second string) string {
		return "data: d\ngateway:\n  site: long-mere\n  sources:\n    - name: a\n      " + first + "\n    - name: b\n      " + second + "\n"
	}
	const messages = "messages: [{ topic: '{x}/t', payload: number, series: '{x}/t' }]"
	broker := "mqtt_broker: { address: 'tcp://127.0.0.1:1883', " + messages
	for _, c := range []struct{ first, second, want string }{
		{broker + " }", broker + " }", ""},
		{
			broker + ", client_id: twin }", broker + ", client_id: twin }",
			`f.yaml:7:7: gateway.sources[1]: sources "a" and "b" use the same client id "twin" at tcp://127.0.0.1:1883; give each source its own client_id`,
		},
		{
			"mqtt_listener: { address: '127.0.0.1:1884', " + messages + " }",
			"mqtt_listener: { address: '127.0.0.1:1884', " + messages + " }", `use the same address 127.0.0.1:1884`,
		},
		{
			"mqtt_listener: { address: '127.0.0.1:0', " + messages + " }",
			"mqtt_listener: { address: '127.0.0.1:0', " + messages + " }", "",
		},
		{
			"modbus: { address: 'rtu:///dev/ttyS0', unit: 1, every: 10s, registers: [{ at: 0, series: p/x }] }",
			"modbus: { address: 'rtu:///dev/ttyS0', unit: 2, every: 10s, registers: [{ at: 0, series: p/y }] }",
			`use the same serial line rtu:///dev/ttyS0; name all its units in one source`,
		},
	} {
		_, err := config.Parse("f.yaml", []byte(file(c.first, c.second)), kinds.All)
		if c.want == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, c.want)
		}
	}
}

func TestWhatIsNearlyRightIsSuggested(t *testing.T) {
	file := "data: d\nzone: %s\ngateway:\n  site: long-mere\n  series:\n    - { select: +/+/t, unit: \"%s\" }\n"
	_, err := config.Parse("f.yaml", fmt.Appendf(nil, file, "Berlin", "Cel"), kinds.All)
	assert.ErrorContains(t, err, `f.yaml:2:7: zone: "Berlin" is not known; did you mean Europe/Berlin?`)
	got, err := config.Parse("f.yaml", fmt.Appendf(nil, file, "Europe/Berlin", "°C"), kinds.All)
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(got.Advice), "the symbol of °C is Cel")
}
