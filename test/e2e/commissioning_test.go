package e2e

import (
	"context"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

var block = regexp.MustCompile("(?s)```(console|sh|yaml)\n(.*?)```")

// commissioned are some of the series that there are in the end, and their units.
var commissioned = map[string]string{
	"stony-beck/raceway-4/oxygen": "mg/l", "stony-beck/raceway-4/water_temp": "Cel", "stony-beck/buoy-1/oxygen": "mg/l", "stony-beck/buoy-1/t6": "",
	"stony-beck/buoy-4/water_temp_3m": "Cel", "stony-beck/buoy-4/battery": "mV", "stony-beck/mast/wind/column_1": "m/s", "stony-beck/feed/silo-1/weight": "kg",
}

// The commands of docs/commissioning.md, one after the other, lead from nothing to series that
// are right.
func TestFromNothingToTrueSeries(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join(sourceDir(), "..", "..", "docs", "commissioning.md"))
	require.NoError(t, err)
	guide := strings.NewReplacer("127.0.0.1:5021", "127.0.0.1:"+freePort(t), "127.0.0.1:1884",
		"127.0.0.1:"+freePort(t)).Replace(string(text))
	dir := t.TempDir()
	program, err := binary()
	require.NoError(t, err)
	blocks := block.FindAllStringSubmatch(guide, -1)
	for line := range strings.Lines(blocks[0][2]) { // the site
		start(t, program, strings.Fields(line)[1:]...)
		time.Sleep(100 * time.Millisecond)
	}
	file := filepath.Join(dir, "gateway.yaml")
	require.NoError(t,
		os.WriteFile(file, []byte(strings.Replace(blocks[1][2], "data: .", "listen: 127.0.0.1:0\ndata: "+dir, 1)),
			0o600))
	probes := regexp.MustCompile(`127\.0\.0\.1:\d+`).FindAllString(blocks[0][2], 2)
	eventually(t, "the site is there", func() bool {
		return reachable(strings.TrimPrefix(probes[0], "127.0.0.1:")) &&
			reachable(strings.TrimPrefix(probes[1], "127.0.0.1:"))
	})
	commands := 0
	run := func(line string, at string) string {
		commands++
		ctx, cancel := context.WithTimeout(t.Context(), patience)
		defer cancel()
		cmd := exec.CommandContext(ctx, program, strings.Fields(line)[1:]...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "NEXOCUMULA_AT="+at)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", line, out)
		return string(out)
	}
	said := map[string]string{}
	var gateway *client.Client
	for _, b := range blocks[2:] {
		if b[1] == "sh" {
			commands++
			p := start(t, program, "run", "--config", file)
			var address string
			eventually(t, "the gateway starts", func() bool {
				_, rest, ok := strings.Cut(p.output.String(), "interface at ")
				address, _, _ = strings.Cut(rest, "\n")
				return ok && strings.Contains(rest, "\n")
			})
			gateway = client.New(address)
			eventually(t, "everything was heard", func() bool {
				now, err := gateway.Now(t.Context(), "")
				left := maps.Clone(commissioned)
				for _, v := range now.Values {
					delete(left, v.Path)
				}
				return err == nil && len(now.Values) >= 20 && len(left) == 0
			})
			continue
		}
		if b[1] != "console" {
			continue
		}
		for line := range strings.Lines(b[2]) {
			at := ""
			if gateway != nil {
				at = gateway.Base()
			}
			said[strings.Join(strings.Fields(line)[1:], " ")] = run(line, at)
		}
	}
	assert.LessOrEqual(t, commands, 10)
	after, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(after), "site: stony-beck # the first level of all its series", "what stood there stays")
	assert.Contains(t, string(after), `type: int16, scale: 0.01, series: "raceway-4/water_temp"`)
	for what, text := range said {
		if strings.HasPrefix(what, "watch") && !strings.Contains(what, "append") {
			assert.Contains(t, text, "JSON: /battery, /oxygen, /water/t1, /water/t3, /water/t6; time at /at, rfc3339")
			assert.Contains(t, text, "SenML in JSON: buoy-4/water_temp_1m")
			assert.Contains(t, text, `text, 3 columns, blanks between: 1, 3`)
			assert.Contains(t, text, "a number and kg")
		}
	}

	// Every topic of the broker is collected, and all values are those of water and fish.
	now, err := gateway.Now(t.Context(), "")
	require.NoError(t, err)
	units := map[string]string{}
	for _, v := range now.Values {
		units[v.Path] = v.Unit
	}
	for path, unit := range commissioned {
		assert.Equal(t, unit, units[path], path)
	}
	for _, v := range now.Values {
		switch {
		case strings.HasSuffix(v.Path, "/oxygen"):
			assert.InDelta(t, 8, float64(v.Value), 6, v.Path)
		case strings.Contains(v.Path, "temp"):
			assert.InDelta(t, 12, float64(v.Value), 12, v.Path)
		}
	}
	kept, err := gateway.Rejects(t.Context(), client.RejectFilter{Rule: "unreadable", Limit: 100})
	require.NoError(t, err)
	for _, r := range kept.Rejects {
		assert.NotContains(t, r.Reason, "matches no messages", r.Place)
	}
}

// A register is found by a series that moves like it: the one that the gateway reads there.
func TestARegisterIsFoundByWhatMovesLikeIt(t *testing.T) {
	dir, port := t.TempDir(), freePort(t)
	program, err := binary()
	require.NoError(t, err)
	start(t, program, "simulate", "probes", "--listen", "127.0.0.1:"+port)
	eventually(t, "the probes are there", func() bool { return reachable(port) })
	_, gateway := service(t, dir, "gateway", `
data: `+dir+`/data
listen: 127.0.0.1:0
gateway:
  site: stony-beck
  sources:
    - name: probes
      modbus: { address: "rtu+tcp://127.0.0.1:`+port+`", every: 100ms, registers: [{ unit: 4, table: input, address: 1, type: int16, scale: 0.01, series: raceway-4/water_temp }] }
`)
	eventually(t, "the series is there", func() bool {
		now, err := gateway.Now(t.Context(), "")
		return err == nil && len(now.Values) == 1
	})
	said := nexocumula(t, gateway, "probe", "probes", "--unit-id", "4", "--table", "input", "--count", "2", "--times",
		"4", "--every", "200ms", "--expect=-2..35", "--like", "stony-beck/raceway-4/water_temp", "--take",
		"1=raceway-4/again")
	assert.Contains(t, said,
		`- { unit: 4, table: input, address: 1, type: int16, scale: 0.01, series: "raceway-4/again" }`)
	cmd := exec.CommandContext(t.Context(), program, "probe", "probes", "--at", gateway.Base(), "--unit-id", "4",
		"--table", "input", "--like", "stony-beck/raceway-9/water_temp", "--count", "1", "--times", "1")
	out, err := cmd.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "near it are stony-beck/raceway-4/water_temp")
}
