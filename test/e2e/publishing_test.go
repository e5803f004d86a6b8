package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const (
	publishing = `data: %[1]s/stony-beck
listen: 127.0.0.1:0
gateway:
  site: stony-beck
  sources:
    - name: scripts
      http_push: { senders: [{ name: lake, secret_file: %[1]s/secret }] }
  uplinks:
    - name: county
      tiers: [1m]
      mqtt: { address: "tcp://127.0.0.1:%[2]s", version: "%[3]s", %[4]s }
`
	hearing = `data: %[1]s/county
listen: 127.0.0.1:0
gateway:
  site: county
  series: [{ select: "#", unit: mg/l }]
  sources:
    - name: county
      mqtt_broker:
        address: tcp://127.0.0.1:%[2]s
        %[3]s
`
)

// sumOf counts the readings of a series, and adds them up.
func sumOf(t *testing.T, c *client.Client, series string, day time.Time) (count, sum float64) {
	t.Helper()
	got, err := c.Windows(t.Context(), client.WindowsQuery{
		Select: []string{series}, From: day, To: day.Add(24 * time.Hour), Width: "whole", Stats: []string{"count", "sum"},
	})
	if err != nil || len(got.Series) == 0 {
		return 0, 0
	}
	return float64(got.Series[0].Values["count"][0]), float64(got.Series[0].Values["sum"][0])
}

// A gateway publishes what waited while a broker of another make was away, in order; our own broker source takes every form of it.
func TestWhatIsPublishedToABrokerArrivesInOrder(t *testing.T) {
	for name, test := range map[string]struct{ version, how, hears string }{
		"SenML in JSON": {"3.1.1", `topic: "summaries/{path}"`,
			`messages: [{ topic: "summaries/#", payload: senml_json, values: [{ name: "stony-beck/raceway-1/oxygen/mean", series: raceway-1/oxygen }] }]`},
		"SenML in CBOR over MQTT 5": {"5", `payload: senml_cbor, stats: [mean, count], topic: "cbor/{site}/{station}/{quantity}", latest: ""`,
			`messages: [{ topic: "cbor/#", payload: senml_cbor, values: [{ name: "stony-beck/raceway-1/oxygen/mean", series: raceway-1/oxygen }] }]`},
		"Sparkplug": {"3.1.1", `payload: sparkplug, sparkplug: { group: farm, primary_host: head-office }, stats: [mean]`,
			`sparkplug: { group: farm, host: head-office, metrics: [{ name: raceway-1/oxygen/1m/mean, series: raceway-1/oxygen }] }`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, port := t.TempDir(), freePort(t)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("salmon run at dawn"), 0o600))
			_, gateway := service(t, dir, "stony-beck", fmt.Sprintf(publishing, dir, port, test.version, test.how))
			day := time.Now().UTC().AddDate(0, 0, -1).Truncate(24 * time.Hour)
			require.NoError(t, pushDay(t, gateway.Base(), day, patience)) // nobody is there yet
			eventually(t, "that is told", func() bool {
				links, err := gateway.Uplinks(t.Context())
				return err == nil && strings.Contains(links.Sending[0].LastError, "no connection to the broker")
			})
			start(t, need(t, "mosquitto"), "-p", port)
			eventually(t, "the broker listens", func() bool { return reachable(port) })
			sub := start(t, need(t, "mosquitto_sub"), "-p", port, "-t", "summaries/#", "-v")
			_, county := service(t, dir, "county", fmt.Sprintf(hearing, dir, port, test.hears))
			const minutes = 24 * 60
			eventually(t, "all is there", func() bool {
				count, _ := sumOf(t, county, "county/raceway-1/oxygen", day)
				return count == minutes
			})
			means, err := gateway.Windows(t.Context(), client.WindowsQuery{
				Select: []string{"stony-beck/raceway-1/oxygen"}, From: day, To: day.Add(24 * time.Hour), Width: "1m", Stats: []string{"mean"},
			})
			require.NoError(t, err)
			want := 0.0
			for _, v := range means.Series[0].Values["mean"] {
				want += float64(v)
			}
			_, sum := sumOf(t, county, "county/raceway-1/oxygen", day)
			assert.InDelta(t, want, sum, 1e-6)
			links, err := gateway.Uplinks(t.Context())
			require.NoError(t, err)
			assert.True(t, links.Sending[0].Up)
			if name == "SenML in JSON" {
				inOrder(t, sub.output.String(), minutes)
				latest := start(t, need(t, "mosquitto_sub"), "-p", port, "-t", "stony-beck/raceway-1/oxygen", "-C", "1")
				eventually(t, "the latest value is retained", func() bool { return strings.Contains(latest.output.String(), `"bn":"stony-beck/raceway-1/oxygen"`) })
			}
		})
	}
}

// inOrder checks the times of the summaries that somebody else has heard.
func inOrder(t *testing.T, text string, count int) {
	t.Helper()
	last, seen := 0.0, 0
	for line := range strings.Lines(text) {
		_, pack, ok := strings.Cut(line, " ")
		if !ok {
			continue
		}
		var records []struct {
			BT float64 `json:"bt"`
			N  string  `json:"n"`
			T  float64 `json:"t"`
		}
		require.NoError(t, json.Unmarshal([]byte(pack), &records), line)
		for _, r := range records {
			if r.N == "mean" {
				at := records[0].BT + r.T
				assert.Greater(t, at, last)
				last, seen = at, seen+1
			}
		}
	}
	assert.GreaterOrEqual(t, seen, count)
}
