package e2e

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const tieredConfig = `
data: %[1]s/gateway
listen: 127.0.0.1:0
gateway:
  site: long-mere
  series: [{ select: "#", unit: m, fresh_for: 30m, tiers: [%[3]s] }]
  sources:
    - name: own
      mqtt_listener: { address: "127.0.0.1:%[2]s", messages: [{ topic: "s/{n}", payload: json, time: /t, values: [{ at: /v, series: "{n}/level" }] }] }
  uplinks: [{ name: head-office, address: "%[4]s", secret_file: %[1]s/secret }]
`

const tieredCentral = `
data: %[1]s/central
listen: 127.0.0.1:0
central: { accept: [{ gateway: long-mere, secret_file: %[1]s/secret }] }
`

// A tier that is added while the gateway runs is filled from what is there, at the central too,
// and until then both answer from the ones there are.
func TestATierIsAddedToARunningGateway(t *testing.T) {
	t.Parallel()
	dir, port := t.TempDir(), freePort(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("otter-and-heron-7\n"), 0o600))
	_, central := service(t, dir, "central", fmt.Sprintf(tieredCentral, dir))
	config := func(tiers string) string { return fmt.Sprintf(tieredConfig, dir, port, tiers, central.Base()) }
	_, gateway := service(t, dir, "gateway", config("1m, 15m"))
	day := time.Now().UTC().Add(-48 * time.Hour).Truncate(24 * time.Hour)
	var messages []string
	for i := range 24 * 6 { // every ten minutes, with a gap
		if at := day.Add(time.Duration(i) * 10 * time.Minute); at.Hour() < 9 || at.Hour() > 11 {
			messages = append(messages, fmt.Sprintf(`{"t":%q,"v":%d}`, at.Format(time.RFC3339), i%7))
		}
	}
	publish(t, port, "s/buoy-1", messages, "-q", "1")
	hours := func(at *client.Client) *client.SeriesWindows {
		out, err := at.Windows(t.Context(), client.WindowsQuery{
			Select:  []string{"long-mere/buoy-1/level"},
			From:    day,
			To:      day.Add(24 * time.Hour),
			Width:   "1h",
			Stats:   []string{"count", "mean", "max", "twa"},
			Explain: true,
		})
		if err != nil || len(out.Series) == 0 {
			return nil
		}
		return &out.Series[0]
	}
	settled := func(at *client.Client, tier string) func() bool {
		return func() bool {
			s := hours(at)
			if s == nil || s.Tier != tier {
				return false
			}
			total := 0.0
			for _, n := range s.Values["count"] {
				if !math.IsNaN(n) {
					total += n
				}
			}
			return int(total) == len(messages)
		}
	}
	eventually(t, "the gateway answers from 15m", settled(gateway, "15m"))
	eventually(t, "the central answers from 15m", settled(central, "15m"))
	before := hours(central)

	require.NoError(t, os.WriteFile(filepath.Join(dir, "gateway.yaml"), []byte(config("1m, 15m, 1h")), 0o600))
	reloaded, err := gateway.Reload(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"gateway.series"}, reloaded.Applied)
	eventually(t, "the gateway answers from the new tier", func() bool {
		s := hours(gateway)
		same(t, before, s)
		return s.Tier == "1h"
	})
	publish(t, port, "s/buoy-1", messages[:1], "-q", "1") // once more: a definition goes with summaries
	eventually(t, "the central does so too", settled(central, "1h"))
	for _, at := range []*client.Client{gateway, central} {
		same(t, before, hours(at))
		list, err := at.Series(t.Context(), "#")
		require.NoError(t, err)
		assert.Equal(t, []string{"1m", "15m", "1h"}, list.Series[0].Tiers)
	}
	_, err = central.Windows(t.Context(), client.WindowsQuery{
		Select: []string{"long-mere/buoy-1/level"},
		From:   day,
		To:     day.Add(time.Hour),
		Width:  "10s",
		Stats:  []string{"mean"},
	})
	assert.ErrorContains(t, err, "only summaries of 1m are kept here")
}

// same wants the same numbers, whatever they were computed from.
func same(t *testing.T, want, got *client.SeriesWindows) {
	t.Helper()
	for stat, values := range want.Values {
		for i, v := range values {
			if math.IsNaN(v) {
				require.True(t, math.IsNaN(got.Values[stat][i]), "%s of window %d", stat, i)
			} else {
				require.InDelta(t, v, got.Values[stat][i], 1e-9, "%s of window %d", stat, i)
			}
		}
	}
}
