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
)

const importingGateway = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: stony-beck
  series:
    - { select: +/+/oxygen, unit: mg/l, low: 0, high: 20 }
    - { select: +/+/aerator, kind: state, states: { "off": 0, "on": 1 } }
  sources:
    - name: archive
      http_push:
        senders: [{ name: office, secret_file: %[1]s/secret, series: "#" }]
        messages: [{ topic: "log/{station}", payload: xml, records: /log/v, time: /@at, values: [{ at: /#text, series: "{station}/level" }] }]
    - name: silo
      mqtt_listener:
        address: 127.0.0.1:%[2]s
        messages: [{ topic: "{station}/weight", series: "{station}/weight" }]
`

// pastTable returns a wide table of so many lines, and what it should become.
func pastTable(lines int) (text string, oxygen float64) {
	var out strings.Builder
	out.WriteString("Zeit;OX1;Belüfter;note\n")
	for i := range lines {
		at := time.Date(2025, 1, 10, 0, 0, 0, 0, time.UTC).Add(time.Duration(i) * 10 * time.Second)
		v := 8 + float64(i%100)/100
		oxygen += v
		fmt.Fprintf(&out, "%s;%s;%s;x\n", at.Format("02.01.2006 15:04:05"),
			strings.Replace(fmt.Sprintf("%.2f", v), ".", ",", 1), []string{"on", "off"}[i%2])
	}
	out.WriteString("10.01.2025 00:00;8,1;on;x\n11.01.2025 00:00:00;many;on;x\n12.01.2025 00:00:00;8,1\n13.01.2025 00:00:00;99;on;x\n")
	return out.String(), oxygen
}

func TestHistoryIsBroughtInOnceThoughTheImportIsKilled(t *testing.T) {
	t.Parallel()
	dir, port := t.TempDir(), freePort(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("a stone in the river 77"), 0o600))
	product, err := binary()
	require.NoError(t, err)
	_, gateway := service(t, dir, "gateway", fmt.Sprintf(importingGateway, dir, port))
	const lines = 30_000
	text, sum := pastTable(lines)
	file := filepath.Join(dir, "history.csv")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	how := []string{"import", "--at", gateway.Base(), "--token-file", filepath.Join(dir, "secret"), "--separator", ";", "--decimal-comma", "--time-column", "Zeit",
		"--time-form", "%d.%m.%Y %H:%M:%S", "--column", "OX1=raceway-1/oxygen", "--column", "3=raceway-1/aerator", file}

	out, err := exec.Command(product, append([]string{"import", "--preview", "2"}, how[5:]...)...).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "is shown with the token of a sender")
	out, err = exec.Command(product, append([]string{"import", "--preview", "2"}, how[1:]...)...).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "line 3, column OX1")
	assert.Contains(t, string(out), "stony-beck/raceway-1/oxygen", "as the gateway would store it")
	assert.Contains(t, string(out), "2025-01-10T00:00:10Z")
	assert.Contains(t, string(out), "8.01")

	for range 3 { // it is killed in the middle, wherever that is
		one := exec.Command(product, append(how, "--most-per-second", "40000")...)
		require.NoError(t, one.Start())
		time.Sleep(400 * time.Millisecond)
		_ = one.Process.Kill()
		_ = one.Wait()
	}
	begun := time.Now()
	stream(t, port, "silo-1/weight", "1200.5") // who collects meanwhile does not wait for history
	t.Logf("a reading beside was acknowledged in %s", time.Since(begun))
	out, err = exec.Command(product, how...).CombinedOutput()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit, "some rows are refused")
	for _, wrong := range []string{
		`line 30002: "10.01.2025 00:00" where a time such as`, "line 30003, column OX1: ", `"many"`,
		"line 30004: 2 columns, where the first line has 4", "line 30005, column OX1: ",
		"60002 readings of 30004 records", "4 were refused",
	} {
		assert.Contains(t, string(out), wrong)
	}
	for range 2 {
		got := whole(t, gateway)
		assert.Equal(t, lines, int(got["stony-beck/raceway-1/oxygen"]["count"]))
		assert.InDelta(t, sum/lines, got["stony-beck/raceway-1/oxygen"]["mean"], 1e-9)
		assert.Equal(t, lines, int(got["stony-beck/raceway-1/aerator"]["count"]))
		out, _ = exec.Command(product, how...).CombinedOutput()
		assert.Contains(t, string(out), "was brought in full before")
		out, _ = exec.Command(product, append(how, "--again")...).CombinedOutput()
		assert.Contains(t, string(out), "60002 readings of 30004 records", "and doubles nothing")
	}
}

func whole(t *testing.T, gateway *client.Client) map[string]map[string]float64 {
	answer, err := gateway.Windows(t.Context(), client.WindowsQuery{
		Select: []string{"stony-beck/raceway-1/+"},
		From:   time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC),
		To:     time.Date(2025, 2, 1, 0, 0, 0, 0, time.UTC),
		Width:  "whole",
		Stats:  []string{"count", "mean"},
	})
	require.NoError(t, err)
	out := map[string]map[string]float64{}
	for _, s := range answer.Series {
		out[s.Name] = map[string]float64{}
		for name, v := range s.Whole.Values {
			out[s.Name][name] = float64(v)
		}
	}
	return out
}

func stream(t *testing.T, port, topic, value string) {
	out, err := exec.Command(need(t, "mosquitto_pub"), "-p", port, "-q", "1", "-t", topic, "-m", value).CombinedOutput()
	require.NoError(t, err, string(out))
}

func TestLogsOfSenMLAreBroughtIn(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("a stone in the river 77"), 0o600))
	product, err := binary()
	require.NoError(t, err)
	_, gateway := service(t, dir, "gateway", fmt.Sprintf(importingGateway, dir, freePort(t)))
	file := filepath.Join(dir, "log.senml")
	require.NoError(t, os.WriteFile(file, []byte(`[{"bn":"raceway-1/","bt":1736467200,"n":"oxygen","u":"mg/l","v":8.5},{"n":"oxygen","t":10,"v":8.7}]
[{"n":"raceway-1/aerator","t":1736467200,"vs":"on"},{"n":"raceway-1/oxygen","v":9}]`), 0o600))
	out, _ := exec.Command(product, "import", "--at", gateway.Base(), "--token-file", filepath.Join(dir, "secret"),
		file).CombinedOutput()
	assert.Contains(t, string(out), "pack 2, record 2: its time is counted from its arrival")
	assert.Contains(t, string(out), "3 readings of 2 records")
	assert.Equal(t, map[string]map[string]float64{
		"stony-beck/raceway-1/oxygen":  {"count": 2, "mean": 8.6},
		"stony-beck/raceway-1/aerator": {"count": 1, "mean": 1},
	}, whole(t, gateway))
}

// A file of any form is sent as a message, which the gateway's configuration says how to read.
func TestAFileOfAnyFormIsSentAsAMessage(t *testing.T) {
	t.Parallel()
	dir, port := t.TempDir(), freePort(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("a stone in the river 77"), 0o600))
	product, err := binary()
	require.NoError(t, err)
	_, gateway := service(t, dir, "gateway", fmt.Sprintf(importingGateway, dir, port))
	file := filepath.Join(dir, "levels.xml")
	require.NoError(t,
		os.WriteFile(file,
			[]byte(`<log><v at="2026-03-01T08:00:00Z">4.25</v><v at="2026-03-01T08:00:10Z">high</v><v at="2026-03-01T08:00:20Z">4.5</v></log>`),
			0o600))
	run := func(more ...string) (string, error) {
		out, err := exec.Command(product, append([]string{
			"import", "--at", gateway.Base(), "--token-file", filepath.Join(dir, "secret"), "--topic", "log/weir",
		}, append(more, file)...)...).CombinedOutput()
		return string(out), err
	}
	said, err := run("--preview", "5")
	require.NoError(t, err, said)
	for _, wanted := range []string{
		"stony-beck/weir/level", "4.25", "2 readings would be stored, and 1 refused",
		`record 2: payload has the text "high" at /#text where a number should be`,
	} {
		assert.Contains(t, said, wanted)
	}
	_, err = gateway.Now(t.Context(), "#")
	assert.ErrorContains(t, err, "there are no series here yet", "nothing was stored")
	said, err = run()
	assert.Error(t, err, "one was refused")
	assert.Contains(t, said, "2 readings are on the gateway's disk; 1 were refused")
	now, err := gateway.Now(t.Context(), "+/weir/level")
	require.NoError(t, err)
	require.Len(t, now.Values, 1)
	assert.EqualValues(t, 4.5, now.Values[0].Value)
}
