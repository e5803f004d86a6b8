package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const findingConfig = `# the intake at stony-beck
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: stony-beck
  series:
    - { select: "#", fresh_for: 90s, discover: { most: 8 } } # what nobody has named yet
  sources:
    - name: own
      mqtt_listener:
        address: 127.0.0.1:%[2]s
        messages: [{ topic: "intake/{station}/#", payload: json, values: [{ all_below: /, state: true, series: "{station}/{key}" }] }]
`

func TestWhatIsFoundIsNamedAndKept(t *testing.T) {
	dir, port := t.TempDir(), freePort(t)
	_, gateway := service(t, dir, "gateway", fmt.Sprintf(findingConfig, dir, port))
	for _, station := range []string{"screen-1", "screen-2"} {
		publish(t, port, "intake/"+station+"/state", []string{
			`{"water":{"temp":7.5,"level":1.2},"pump":"on","blocked":false}`,
			`{"water":{"temp":7.6,"level":1.3},"pump":"off","blocked":false}`,
		}, "-q", "1")
	}
	publish(t, port, "intake/screen-3/state", []string{`{"water":{"temp":8}}`}, "-q", "1") // one more than there may be
	publish(t, port, "intake/screen-1/state", []string{`{"water":{"temp":"warm"}}`}, "-q", "1")

	found := func() client.Discovered {
		out, err := gateway.Discovered(t.Context(), "")
		require.NoError(t, err)
		return out
	}
	eventually(t, "all are found", func() bool { return len(found().Series) == 8 })
	got := found()
	assert.Equal(t, []client.DiscoveryRule{{Select: "#", Found: 8, Most: 8}}, got.Rules)
	assert.Equal(t, `- { select: "stony-beck/+/blocked", kind: state, states: { "false": 0, "true": 1 }, fresh_for: 90s }
- { select: "stony-beck/+/pump", kind: state, states: { "off": 0, "on": 1 }, fresh_for: 90s }
- { select: "stony-beck/+/water_level", kind: gauge, fresh_for: 90s }
- { select: "stony-beck/+/water_temp", kind: gauge, unit: "Cel", fresh_for: 90s }
`, got.Lines)
	rejects := func(path string) string {
		out, err := gateway.Rejects(t.Context(), client.RejectFilter{Select: path, Limit: 1})
		require.NoError(t, err)
		if len(out.Rejects) == 0 {
			return ""
		}
		return out.Rejects[0].Reason
	}
	eventually(t, "what is one too many is rejected", func() bool { return rejects("stony-beck/screen-3/#") != "" })
	assert.Contains(t, rejects("stony-beck/screen-3/#"), "the rule that finds # has found 8 already")
	eventually(t, "what is of another type is rejected", func() bool { return rejects("stony-beck/screen-1/#") != "" })
	assert.Contains(t, rejects("stony-beck/screen-1/#"), `"warm" came where numbers were when the series was found`)

	// Named as they are, they make room for others.
	file := filepath.Join(dir, "gateway.yaml")
	shown := nexocumula(t, gateway, "series", "discovered")
	assert.Contains(t, shown, "#: 8 of at most 8 are found. Readings of further ones are rejected.")
	assert.Contains(t, nexocumula(t, gateway, "series", "discovered", "+/+/water_temp", "--append-to", file),
		"+    - { select: \"stony-beck/+/water_temp\"")
	assert.Contains(t, nexocumula(t, gateway, "series", "discovered", "--append-to", file, "--write"), "written to "+file)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "# what nobody has named yet\n    - { select: \"stony-beck/+/blocked\"")
	nexocumula(t, gateway, "reload")
	assert.Empty(t, found().Series)
	assert.Contains(t, nexocumula(t, gateway, "series", "discovered"), "No series waits to be named.")
	publish(t, port, "intake/screen-3/state", []string{`{"water":{"temp":8,"flow_pct":40}}`}, "-q", "1")
	eventually(t, "another is found", func() bool { return len(found().Series) == 1 })
	assert.Equal(t, "%", found().Series[0].Unit)
	assert.Equal(t, "name", found().Series[0].UnitFrom)
	list, err := gateway.Series(t.Context(), "stony-beck/+/pump")
	require.NoError(t, err)
	assert.Equal(t, map[string]float64{"off": 0, "on": 1}, list.Series[0].States)
}
