package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"

	"nexocumula/client"
)

const hostileConfig = `
data: %[1]s/gateway
listen: 127.0.0.1:0
queries: { max_time: 4s }
gateway:
  site: long-mere
  sources:
    - { name: own, mqtt_listener: { address: "127.0.0.1:0", messages: [{ topic: "mast/{quantity}", series: "mast/{quantity}" }] } }
`

// hostile are calls that ask for more than there is: about 200 kinds.
func hostile() (out []url.Values) {
	add := func(pairs ...string) {
		v := url.Values{}
		for i := 0; i < len(pairs); i += 2 {
			v.Add(pairs[i], pairs[i+1])
		}
		out = append(out, v)
	}
	deep := func(open, close string) string { return strings.Repeat(open, 200) + "a" + strings.Repeat(close, 200) }
	for _, formula := range []string{
		"let v=1..900; sum(v,{sum(v,{sum(v,{#+a})})})", "1..1000000000", "len(1..100000000)", "repeat('a', 1000000000)", "map(1..1000000, # * a)", "filter(1..1000000, # > a)",
		"reduce(1..1000000, #acc + #)", "all(1..9, true)", "any(1..9, #)", "one(1..9, #)", "none(1..9, #)", "count(1..9, #)", "find(1..9, #)", "findIndex(1..9, #)", "groupBy(1..9, #)", "sortBy(1..9, #)",
		"sum(1..9)", "mean(1..9)", "median(1..9)", "flatten([[1]])", "uniq([1])", "concat([1],[2])", "keys({'a':1})", "values({'a':1})", "toPairs({})", "fromPairs([])", "split('a','')", "join(['a'])",
		"now()", "date('2026-01-01')", "duration('1h')", "timezone('UTC')", "fromJSON('1')", "toJSON(a)", "fromBase64('')", "string(a)", "int(a)", "float(a)", "type(a)", "get(a, 1)", "take([1],1)", "first([1])", "last([1])",
		"a matches '(a+)+$'", "a contains 'x'", "'x' in a", "a in [1,2]", "a in 1..3", "a?.b", "a.b.c", "a[0]", "a[1:2]", "a ?? 1", "$env", "$env['a']", "#", ".a", "{a: 1}", "[a]", "'a'", "nil", "a; a", "let b = a; b", "if a > 1 { 2 } else { 3 }",
		"a |", "a(", ")", "()", "", " ", "a b", "a = 1", "a == ", "!", "not", "a && ", "1e999 * a", "9999999999999999999999", "0x", "1__0", "a //", "a /* ", "\x00", "ö + a", "a\u202e", "\xff", "a ? b", "a ? 1 : ", "min()", "min(a)", "min(1,2,3)", "abs()", "abs(a, a)", "pow(a)", "a ^^ a",
		strings.Repeat("a+", 249) + "a", strings.Repeat("-", 490) + "a", strings.Repeat("(", 490), strings.Repeat("!",
			490) + "a", strings.Repeat("a?", 240), strings.Repeat("a**", 99) + "a", deep("(", ")"), deep("abs(", ")"), deep("[",
			"]"), deep("{", "}"), strings.Repeat("a", 501),
	} {
		add("input", "a=long-mere/mast/wind", "calc", "x="+formula, "last", "1d", "width", "1h")
	}
	for _, shape := range []string{
		"stride=1m&width=1y&hours=08:00-20:00", "stride=1m&width=1y", "stride=1s&width=100y", "stride=1ms&width=1ms", "width=1s", "width=10s", "width=1m", "width=1m&stride=10s", "width=1y&stride=1d&hours=00:00-00:01,02:00-02:01,04:00-04:01",
		"width=1d&stride=1s&days=mon", "width=1mo&stride=1h", "width=1000y", "width=1h&origin=1971-01-01", "width=1d&fold=day", "width=1s&fold=day", "width=10s&fold=week", "width=1m&fold=year", "width=1m&fold=day", "width=1d&by_clock=true&stride=1m",
		"width=whole&stats=p50", "width=1m&stats=p1,p2,p3,p4,p5,p6,p7,p8,p9", "width=1m&stats=above:1,above_longest:1,above_times:1,above_first:1,above:2,above:3,above:4,above:5", "width=1h&shift=1y", "width=1m&shift=1d", "width=1m&across=p90", "width=1m&across=sd&by=level:2",
		"width=1m&highest=200", "width=1h&highest=200&stats=mean,min,max,sd,sum", "width=1m&then=p1,p2,p3,mean,sd", "width=1m&gaps=join", "width=1m&gaps=carry", "width=1m&newest=1", "width=1h&format=csv", "width=1h&format=arrow", "width=1m&explain=yes", "width=1m&edges=clipped", "",
	} {
		for _, span := range []string{"last=1d", "from=2024-01-01", "from=1971-01-01&to=2199-12-31"} {
			v, err := url.ParseQuery(shape + "&" + span)
			if err != nil {
				panic(err)
			}
			for _, of := range []string{"long-mere/#", "long-mere/mast/wind"} {
				one := maps.Clone(v)
				one.Set("select", of)
				out = append(out, one)
			}
		}
	}
	many := url.Values{"last": {"700d"}, "width": {"10m"}}
	for i := range 20 {
		many.Add("input", fmt.Sprintf("i%d=long-mere/mast/wind@mean", i))
		many.Add("calc", fmt.Sprintf("c%d=i%d*i0", i, i))
	}
	out = append(out, many)
	var everyDay []string
	for day := time.Date(2019, 1, 1, 0, 0, 0, 0, time.UTC); len(everyDay) < 2500; day = day.AddDate(0, 0, 1) {
		everyDay = append(everyDay, day.Format(time.DateOnly))
	}
	add("select", "long-mere/#", "last", "700d", "width", "1h", "except", strings.Join(everyDay, ","))
	add("select", strings.Repeat("+/", 11)+"#")
	add("select", strings.Repeat("a/", 5000))
	add("select", "#", "unit", strings.Repeat("m/s", 5000))
	add("select", "#", "stats", strings.Repeat("p1.1,", 5000))
	add("select", "#", "label", strings.Repeat("a=b,", 5000))
	return out
}

// history writes two years of a series by the minute, with what a gateway sums up of it, and a day of
// sixty others.
func history(t *testing.T, dir string) {
	st, err := store.Open(filepath.Join(dir, "gateway", "nexocumula.db"), slog.New(slog.DiscardHandler),
		store.Options{})
	require.NoError(t, err)
	end := time.Now().UTC().Truncate(time.Hour)
	write := func(path series.Path, minutes int) {
		def := series.Definition{Path: path, Kind: series.Gauge, Unit: "m/s", FreshFor: 90 * time.Second}
		ids, err := st.Define(t.Context(), []series.Definition{def})
		require.NoError(t, err)
		for from := 0; from < minutes; from += 10_000 {
			n := min(10_000, minutes-from)
			raw, sums := column.New(1, n), rollup.NewBlock(def.Kind, n)
			for i := range n {
				at := end.Add(time.Duration(from+i-minutes) * time.Minute).UnixNano()
				v := float64((from + i) % 97)
				raw.Add(at, v)
				rollup.Summary{
					Count:   1,
					Mean:    v,
					Min:     v,
					Max:     v,
					First:   v,
					Last:    v,
					MinAt:   at,
					MaxAt:   at,
					FirstAt: at,
					LastAt:  at,
					Covered: time.Minute,
					Held:    v,
				}.AddTo(&sums,
					at, def.Kind)
			}
			require.NoError(t, st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{
				{Series: ids[0], Rows: raw},
				{Series: ids[0], Tier: series.Minute, Rows: sums},
				{Series: ids[0], Tier: series.TenSecond, Rows: sums},
			}}))
		}
	}
	write("long-mere/mast/wind", 2*365*24*60)
	for i := range 60 {
		write(series.Path(fmt.Sprintf("long-mere/buoy-%d/oxygen", i)), 24*60)
	}
	require.NoError(t, st.Seal(t.Context(), engine.Sealing{}))
	require.NoError(t, st.Close())
}

// memoryOf returns the most that a process ever used, in MB.
func memoryOf(t *testing.T, pid int) int {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	m := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(text)
	require.NotNil(t, m)
	kB, err := strconv.Atoi(string(m[1]))
	require.NoError(t, err)
	return kB >> 10
}

func TestNoQueryTakesMoreThanItsTimeAndItsMemory(t *testing.T) {
	dir := t.TempDir()
	history(t, dir)
	p, c := service(t, dir, "gateway", fmt.Sprintf(hostileConfig, dir))
	_, err := c.Now(t.Context(), "#")
	require.NoError(t, err)
	address := regexp.MustCompile(`interface at (\S+)`).FindStringSubmatch(p.output.String())[1]
	before := memoryOf(t, p.cmd.Process.Pid)
	worst, kinds := "", hostile()
	require.Greater(t, len(kinds), 200)
	for _, v := range kinds {
		begun, had := time.Now(), memoryOf(t, p.cmd.Process.Pid)
		resp, err := http.Get(address + "/api/v1/windows?" + v.Encode())
		require.NoError(t, err, v)
		text, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		_, _ = io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		assert.Less(t, time.Since(begun), 30*time.Second, "%v", v) // four, and a slow machine
		if has := memoryOf(t, p.cmd.Process.Pid); has > had+5 {
			worst += fmt.Sprintf("%d MB after %d: %.150v\n", has, had, v)
		}
		if resp.StatusCode == http.StatusOK {
			continue
		}
		require.NoError(t, err)
		var refused client.Problem
		assert.NoError(t, json.Unmarshal(text, &refused), "%v: %s", v, text)
		assert.NotEmpty(t, refused.Detail, "%v", v)
		assert.Less(t, resp.StatusCode, 500, "%v: %s", v, text)
	}
	assert.LessOrEqual(t, memoryOf(t, p.cmd.Process.Pid)-before, 100, worst)
	t.Log(before, "MB before;", worst)
	_, err = c.Now(t.Context(), "#")
	require.NoError(t, err, "and it goes on to answer")
}
