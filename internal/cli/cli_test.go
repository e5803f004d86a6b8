package cli

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"log/slog"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/demo"
)

// typed runs a command line and is what people see of it.
func typed(t *testing.T, args ...string) (out, errOut string, code int) {
	t.Helper()
	var o, e bytes.Buffer
	code = Run(t.Context(), append([]string{"nexocumula"}, args...), "v-test", &o, &e)
	return o.String(), e.String(), code
}

func TestCommandsAgainstADemo(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "demo")
	world, err := demo.Start(t.Context(), demo.Options{
		Dir:     dir,
		Console: "127.0.0.1:0",
		Days:    2,
		Seed:    1,
		Starts:  demo.Midday(),
		Version: "test",
		Log:     slog.New(slog.DiscardHandler),
	})
	require.NoError(t, err)
	defer func() { assert.NoError(t, world.Stop()) }()
	at := "--at=" + world.Central.Address
	found, err := world.ProveUntilClean(t.Context(), time.Minute) // all history is at the central
	require.NoError(t, err)
	require.True(t, found.Clean(), "%+v", found)

	t.Run("series", func(t *testing.T) {
		out, _, code := typed(t, "series", "list", "alder-weir/pump-1/+", at)
		assert.Zero(t, code)
		assert.Regexp(t, `alder-weir/pump-1/energy +counter +kWh`, out)
	})
	t.Run("completion", func(t *testing.T) {
		for line, want := range map[string]string{
			"windows": "stony-beck/raceway-1/oxygen\n", "note add": "stony-beck/raceway-1\n", "gateway add": "long-mere\n",
		} {
			out, _, code := typed(t, append(strings.Fields(line), at, "--generate-shell-completion")...)
			assert.Zero(t, code)
			assert.Contains(t, out, want, line)
		}
	})
	t.Run("now, going on", func(t *testing.T) {
		ctx, stop := context.WithTimeout(t.Context(), 8*time.Second)
		defer stop()
		var out bytes.Buffer
		assert.Zero(t, Run(ctx, []string{"nexocumula", "now", "stony-beck/raceway-1/+", "--follow", "-o", "csv",
			"--at=" + world.Gateways["stony-beck"].Address}, "v-test", &out, &out), out.String())
		rows, err := csv.NewReader(&out).ReadAll()
		require.NoError(t, err)
		assert.Equal(t, "series", rows[0][0])
		assert.Greater(t, len(rows), 3, "each value, and those that came")
	})
	t.Run("now", func(t *testing.T) {
		out, _, code := typed(t, "now", "long-mere/mast/+", at)
		assert.Zero(t, code)
		assert.Contains(t, out, "long-mere/mast/wind_speed")
		assert.Contains(t, out, "m/s")
		out, _, _ = typed(t, "now", at, "--output", "json")
		var now client.Now
		require.NoError(t, json.Unmarshal([]byte(out), &now))
		assert.GreaterOrEqual(t, len(now.Values), 54) // and the presence of the gate, once it has been summarised
	})
	t.Run("windows", func(t *testing.T) {
		out, _, code := typed(t, "windows", "stony-beck/raceway-1/oxygen", "--last", "1d", "--width", "3h", "--chart",
			"always", at)
		assert.Zero(t, code)
		assert.Contains(t, out, "mean")
		assert.Contains(t, out, "stony-beck/raceway-1/oxygen, mean of 3h windows")
		out, _, _ = typed(t, "windows", "stony-beck/raceway-1/oxygen", "--last", "1d", "--width", "3h", "--stats",
			"min,max", "-o", "csv", at)
		rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		require.NoError(t, err)
		assert.Equal(t, []string{"series", "start", "min", "max", "unit", "filled", "tier"}, rows[0])
		assert.Contains(t, []int{9, 10}, len(rows), "a day touches eight or nine windows of three hours")
		_, err = time.Parse(time.RFC3339Nano, rows[1][1])
		assert.NoError(t, err)
	})
	csvOf := func(t *testing.T, args ...string) [][]string {
		out, errOut, code := typed(t, append(args, "-o", "csv", at)...)
		require.Zero(t, code, errOut)
		rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		require.NoError(t, err)
		return rows
	}
	t.Run("windows of counters, states and bearings", func(t *testing.T) {
		rows := csvOf(t, "windows", "alder-weir/pump-1/energy", "--last", "1d", "--width", "whole", "--stats",
			"increase,first,last,restarts")
		var got [4]float64
		for i := range got {
			var err error
			got[i], err = strconv.ParseFloat(rows[1][2+i], 64)
			require.NoError(t, err)
		}
		assert.Positive(t, got[0])
		if got[3] == 0 {
			assert.InDelta(t, got[0], got[2]-got[1], 0.3, "what it grew by, and perhaps a step into the first reading")
		} else { // the panel restarted within the day, as it does now and then
			assert.GreaterOrEqual(t, got[0], got[2])
		}
		rows = csvOf(t, "windows", "alder-weir/pump-1/running", "--range", "last 12h", "--width", "whole", "--stats",
			"share:0,share:1,changes")
		off, err := strconv.ParseFloat(rows[1][2], 64)
		require.NoError(t, err)
		on, err := strconv.ParseFloat(rows[1][3], 64)
		require.NoError(t, err)
		assert.InDelta(t, 1, off+on, 1e-9)
		out, _, _ := typed(t, "windows", "long-mere/mast/wind_direction", "--last", "6h", "--width", "6h", "--stats",
			"mean,steadiness", at)
		assert.Regexp(t, `mean +steadiness`, out)
		assert.Regexp(t, `\d\.\d %`, out)
		_, said, code := typed(t, "windows", "long-mere/mast/wind_direction", "--last", "6h", "--stats", "mean,min", at)
		assert.Equal(t, 4, code)
		assert.Contains(t, said, "stat min is for series of kind gauge, counter, state", "a circle has no lowest angle")
	})
	t.Run("days that do not count, from a file", func(t *testing.T) {
		file := filepath.Join(t.TempDir(), "holidays.txt")
		yesterday := time.Now().UTC().AddDate(0, 0, -1).Format(time.DateOnly)
		require.NoError(t, os.WriteFile(file, []byte("# nets were changed\n"+yesterday+" # all day\n\n"), 0o600))
		_, said, code := typed(t, "windows", "long-mere/buoy-1/oxygen", "--range", "yesterday", "--width", "1d",
			"--except-file", file, at)
		assert.Equal(t, 4, code)
		assert.Contains(t, said, "none of the range lies in the hours and days that count")
		require.NoError(t, os.WriteFile(file, []byte("yesterday\n"), 0o600))
		_, said, code = typed(t, "windows", "long-mere/buoy-1/oxygen", "--except-file", file, at)
		assert.Equal(t, 2, code)
		assert.Contains(t, said, "holidays.txt, line 1")
	})
	t.Run("readings", func(t *testing.T) {
		_, said, code := typed(t, "readings", "long-mere/buoy-1/oxygen", "--last", "1h", at)
		assert.Equal(t, 4, code)
		assert.Contains(t, said, "only summaries are kept here for this time; fetch its readings")
	})
	t.Run("windows by the calendar", func(t *testing.T) {
		out, _, code := typed(t, "windows", "long-mere/buoy-1/oxygen", "--range", "yesterday", "--zone",
			"Asia/Kolkata", "--width", "1d", "--hours", "22:00-06:00", "--weekdays", "mon-sun", at)
		assert.Zero(t, code)
		assert.Contains(t, out, "22:00:00+05:30")
		rows := csvOf(t, "windows", "long-mere/buoy-1/oxygen", "--last", "3h", "--width", "1h", "--stride", "30m",
			"--newest", "3", "--stats", "count")
		assert.Len(t, rows, 4)
		assert.Len(t,
			csvOf(t, "windows", "long-mere/buoy-1/oxygen", "--range", "last 6h", "--width", "2h", "--origin",
				"2026-01-01T01:00:00Z", "--shift", "1d", "--stats", "mean")[0],
			7)
	})
	t.Run("windows of many, and calculations", func(t *testing.T) {
		rows := csvOf(t, "windows", "#", "--label", "depth=3m", "--across", "mean", "--by", "level:2", "--last", "6h",
			"--width", "whole", "--stats", "mean,max", "--unit", "K")
		assert.Equal(t, []string{"series", "start", "mean", "max", "contributing", "unit", "filled", "tier"}, rows[0])
		assert.Len(t, rows, 5)
		assert.Equal(t, []string{"long-mere/buoy-1", "1", "K"}, []string{rows[1][0], rows[1][4], rows[1][5]})
		warm, err := strconv.ParseFloat(rows[1][2], 64)
		require.NoError(t, err)
		assert.InDelta(t, 286, warm, 6)
		rows = csvOf(t, "windows", "--input", "a=long-mere/buoy-1/oxygen@max", "--input",
			"b=long-mere/buoy-1/oxygen@min", "--calc", "spread=a-b", "--calc", "wide=a-b>5", "--last", "3h", "--width",
			"whole")
		assert.Equal(t, []string{"spread", "wide"}, []string{rows[1][0], rows[2][0]})
		assert.Equal(t, "0", rows[2][2])
	})
	t.Run("percentiles, exact at the gateway and estimated at the central", func(t *testing.T) {
		ask := []string{
			"windows", "stony-beck/raceway-1/oxygen", "--from",
			time.Now().UTC().Add(-26 * time.Hour).Truncate(time.Hour).Format(time.RFC3339), "--to",
			time.Now().UTC().Add(-2 * time.Hour).Truncate(time.Hour).Format(time.RFC3339), "--width", "1h",
		}
		estimated := csvOf(t, append(ask, "--stats", "p10~,p95~,count")...)
		out, _, code := typed(t,
			append(ask, "--stats", "p10,p95,count", "-o", "csv", "--at="+world.Gateways["stony-beck"].Address)...)
		require.Zero(t, code)
		exact, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		require.NoError(t, err)
		assert.Equal(t, []string{"p10~", "p95~"}, estimated[0][2:4])
		require.Len(t, estimated, len(exact))
		for i := 1; i < len(exact); i++ {
			assert.Equal(t, exact[i][4], estimated[i][4], "of as many readings")
			for k := 2; k < 4; k++ {
				want, err := strconv.ParseFloat(exact[i][k], 64)
				require.NoError(t, err)
				got, err := strconv.ParseFloat(estimated[i][k], 64)
				require.NoError(t, err)
				assert.InEpsilon(t, want, got, 0.015, "within 1 %, and the distance to the next reading")
			}
		}
		_, errOut, _ := typed(t, append(ask, "--stats", "p95", at)...)
		assert.Contains(t, errOut, "or for p95~ where sketches are kept")
		_, errOut, _ = typed(t, "windows", "long-mere/buoy-1/oxygen", "--stats", "p95~", "--width", "1h", at)
		assert.Contains(t, errOut, "no sketches are kept")
		_, errOut, _ = typed(t, "windows", "stony-beck/raceway-1/oxygen", "--stats", "p95~", "--width", "1m", at)
		assert.Contains(t, errOut, "multiples of 15m")
	})
	t.Run("moment", func(t *testing.T) {
		when := time.Now().Add(-3 * time.Hour).UTC().Format(time.RFC3339)
		out, _, code := typed(t, "moment", "long-mere/buoy-1/oxygen", when, "--within", "10m", at)
		assert.Zero(t, code)
		assert.Regexp(t, `long-mere/buoy-1/oxygen +[0-9.]+ +mg/l .* 10s`, out)
		_, errOut, code := typed(t, "moment", "long-mere/buoy-1/oxygen", "2020-01-01T00:00:00Z", at)
		assert.Equal(t, exitRefused, code)
		assert.Contains(t, errOut, "has a reading before 2020-01-01T00:00:00Z")
	})
	t.Run("boards", func(t *testing.T) { boards(t, at) })
	t.Run("windows without the chart in a pipe", func(t *testing.T) {
		out, _, _ := typed(t, "windows", "stony-beck/raceway-1/oxygen", at)
		assert.NotContains(t, out, "mean of")
	})
	t.Run("rejects", func(t *testing.T) {
		out, _, code := typed(t, "reject", "list", "--limit", "3", "--at="+world.Gateways["stony-beck"].Address)
		assert.Zero(t, code)
		assert.Contains(t, out, "value -99.9 is below the range's low end 0")
		out, _, _ = typed(t, "reject", "list", at)
		assert.Equal(t, "Nothing was refused.\n", out)
	})
	t.Run("uplinks and an outage", func(t *testing.T) {
		out, _, code := typed(t, "uplink", "list", at)
		assert.Zero(t, code)
		assert.Equal(t, 3, strings.Count(out, "from"))
		ctx, cancel := context.WithCancel(t.Context())
		served := make(chan error, 1)
		go func() { served <- world.Serve(ctx, dir, slog.New(slog.DiscardHandler)) }()
		require.Eventually(t, func() bool {
			_, _, code := typed(t, "demo", "outage", "--for", "1h", "--dir", dir)
			return code == 0
		}, time.Minute, 10*time.Millisecond)
		require.Eventually(t, world.IsCutOff, time.Minute, time.Millisecond)
		_, errOut, code := typed(t, "demo", "outage", "--dir", dir)
		assert.Equal(t, 1, code)
		assert.Contains(t, errOut, "a link is cut already")
		require.Eventually(t, func() bool {
			out, _, _ := typed(t, "uplink", "list", "--at="+world.Gateways["long-mere"].Address)
			return strings.Contains(out, "DOWN") && strings.Contains(out, "\nhead-office: no connection to the central")
		}, time.Minute, 50*time.Millisecond)
		cancel()
		assert.NoError(t, <-served)

		// Now only one site, whose name has to be one.
		ctx, cancel = context.WithCancel(t.Context())
		go func() { served <- world.Serve(ctx, dir, slog.New(slog.DiscardHandler)) }()
		require.Eventually(t, func() bool {
			_, _, code := typed(t, "demo", "outage", "--for", "1h", "--dir", dir, "--from-site", "stony-beck")
			return code == 0
		}, time.Minute, 10*time.Millisecond)
		state := func(site string) string {
			out, _, _ := typed(t, "uplink", "list", "--at="+world.Gateways[site].Address)
			return out
		}
		require.Eventually(t, func() bool {
			return strings.Contains(state("stony-beck"), "DOWN") && !strings.Contains(state("long-mere"), "DOWN") &&
				!strings.Contains(state("alder-weir"), "DOWN")
		}, time.Minute, 50*time.Millisecond)
		_, errOut, code = typed(t, "demo", "outage", "--dir", dir, "--from-site", "stony-back")
		assert.Equal(t, 1, code)
		assert.Contains(t, errOut, "is none of the demo's: alder-weir, ")
		cancel()
		assert.NoError(t, <-served)
	})
	t.Run("refusals say what would work", func(t *testing.T) {
		_, errOut, code := typed(t, "windows", "stony-beck/racway-1/oxygen", at)
		assert.Equal(t, exitRefused, code)
		assert.Contains(t, errOut, "near it are stony-beck/raceway-1/oxygen")
		_, errOut, code = typed(t, "windows", "long-mere/#", "--width", "7s", at)
		assert.Equal(t, exitRefused, code)
		assert.Contains(t, errOut, "use a multiple of it, such as 10s")
	})
	t.Run("the demo's configurations are good", func(t *testing.T) {
		out, _, code := typed(t, "check", filepath.Join(dir, "central.yaml"), filepath.Join(dir, "stony-beck.yaml"))
		assert.Zero(t, code)
		assert.Contains(t, out, "good: central for 3 gateway(s)")
		assert.Contains(t, out, "good: gateway of stony-beck with 2 source(s) and 1 uplink(s)")
	})
}

func TestWrongCommandLines(t *testing.T) {
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("data: d\ngateway:\n  sit: x\n"), 0o600))
	for _, test := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"frob"}, exitUsage, `there is no command "frob"`},
		{[]string{"now", "--frob"}, exitUsage, "frob"},
		{[]string{"now", "-o", "xml"}, exitUsage, "use table, json or csv"},
		{[]string{"windows"}, exitUsage, "name the series"},
		{[]string{"windows", "a/b", "--input", "a=b/c"}, exitUsage, "name the series"},
		{[]string{"moment", "a/b"}, exitUsage, "moment needs SELECTOR TIME"},
		{[]string{"moment", "a/b", "noon"}, exitUsage, "is no time; write a date"},
		{[]string{"windows", "a/b", "--from", "noon"}, exitUsage, "is no time; write a date"},
		{[]string{"now", "--at", "http://127.0.0.1:1"}, exitNoReach, "asking http://127.0.0.1:1"},
		{[]string{"check"}, exitUsage, "check needs FILE ..."},
		{[]string{"check", bad}, exitUsage, `bad.yaml:3:3: gateway: key "sit" is not known here`},
		{[]string{"run", "--config", bad}, exitUsage, `bad.yaml:3:3`},
		{[]string{"run", "--config", "/nowhere.yaml"}, exitFailed, "no such file"},
		{[]string{"demo", "frob"}, exitUsage, "there are outage"},
		{[]string{"demo", "--history-days", "-1"}, exitUsage, "use 0 to 366"},
		{[]string{"demo", "--dir", "/usr"}, exitFailed, "holds something that is not a demo"},
		{[]string{"demo", "outage", "--for", "soon"}, exitUsage, "write a whole number"},
		{[]string{"demo", "outage", "--dir", t.TempDir()}, exitFailed, "no demo has been started"},
		{[]string{"simulate", "lake", "--every", "often"}, exitUsage, "write a whole number"},
	} {
		_, errOut, code := typed(t, test.args...)
		assert.Equal(t, test.code, code, strings.Join(test.args, " "))
		assert.Contains(t, errOut, test.says)
	}
}

func TestVersionAndHelp(t *testing.T) {
	out, _, code := typed(t, "version")
	assert.Zero(t, code)
	assert.Contains(t, out, "nexocumula v-test")
	out, _, code = typed(t)
	assert.Zero(t, code)
	for _, command := range []string{
		"run", "demo", "check", "simulate", "now", "series", "windows", "moment", "reject", "uplink", "completion", "version",
	} {
		assert.Contains(t, out, command)
	}
}

func TestNumbersOfAColumnHaveTheSameDecimals(t *testing.T) {
	rows := [][]cell{{number(8.5)}, {number(9.07)}, {number(10)}, {number(client.Number(math.NaN()))}}
	sameDecimals(rows, 0)
	assert.Equal(t, []string{"8.50", "9.07", "10.00", "–"},
		[]string{rows[0][0].people, rows[1][0].people, rows[2][0].people, rows[3][0].people})
	assert.Equal(t, "8.5", rows[0][0].script, "scripts get the number as it is")
}

func TestNumbersForPeople(t *testing.T) {
	for text, f := range map[string]float64{
		"0":         0,
		"12.65":     12.65,
		"9.5":       9.5,
		"0.001234":  0.00123412,
		"-99.9":     -99.9,
		"345.769":   345.7690001,
		"12345.678": 12345.678,
	} {
		assert.Equal(t, text, brief(f))
	}
	for text, d := range map[string]time.Duration{
		"3 s":       3 * time.Second,
		"5 min":     5 * time.Minute,
		"3 h":       3 * time.Hour,
		"3 d":       72 * time.Hour,
		"ahead 9 s": -9 * time.Second,
	} {
		assert.Equal(t, text, age(d))
	}
}
