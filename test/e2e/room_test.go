package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

const narrow = `data: %[1]s/data
listen: 127.0.0.1:0
room: { store: 12MB }
gateway:
  site: stony-beck
  series: [{ select: "#", unit: mg/l, tiers: [15m, 1h], every: 10s }]
  sources:
    - name: scripts
      http_push: { senders: [{ name: lake, secret_file: %[1]s/secret }] }
  uplinks: [{ name: head-office, address: "http://127.0.0.1:%[2]s", secret_file: %[1]s/link }]
`

const rowsOfADay = 8640

// pushDay sends the readings of a day, ten seconds apart, and says whether they were acknowledged in time.
func pushDay(t *testing.T, base string, day time.Time, within time.Duration) error {
	t.Helper()
	r := rand.New(rand.NewPCG(29, uint64(day.Unix()))) // the same when it is sent again
	var text strings.Builder
	fmt.Fprintf(&text, `[{"bn":"raceway-1/oxygen","bt":%d,"u":"mg/l","v":8}`, day.Unix())
	for i := 1; i < rowsOfADay; i++ {
		fmt.Fprintf(&text, `,{"t":%d,"v":%v}`, 10*i, 8+r.NormFloat64())
	}
	text.WriteString("]")
	ctx, cancel := context.WithTimeout(t.Context(), within)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, base+"/api/v1/readings", strings.NewReader(text.String()))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer salmon run at dawn")
	request.Header.Set("Content-Type", "application/senml+json")
	request.Header.Set("Idempotency-Key", day.Format(time.DateOnly))
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("answered %s", answer.Status)
	}
	return nil
}

// TestAFullStoreDropsWhatTheCentralHasSummariesOfAndNothingElse fills a store while its central is away: senders wait.
// Once the central is there, the oldest readings make room, and each is told; all summaries are there in the end.
func TestAFullStoreDropsWhatTheCentralHasSummariesOfAndNothingElse(t *testing.T) {
	t.Parallel()
	dir, port := t.TempDir(), freePort(t)
	for name, text := range map[string]string{"secret": "salmon run at dawn", "link": "a stone in the river 77"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	_, gateway := service(t, dir, "gateway", fmt.Sprintf(narrow, dir, port))
	first := time.Now().UTC().Add(-400 * 24 * time.Hour).Truncate(24 * time.Hour)
	sent := 0
	for sent < 300 && pushDay(t, gateway.Base(), first.Add(time.Duration(sent)*24*time.Hour), 10*time.Second) == nil {
		sent++
	}
	require.Less(t, sent, 300, "the store is full at some time")
	require.Greater(t, sent, 20)
	health, err := gateway.Health(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "trouble", health.Status)
	assert.Contains(t, strings.Join(health.Troubles, "\n"), "and room allows 12 MB, and nothing more may be dropped: senders wait")
	found, err := gateway.Gaps(t.Context(), client.GapsQuery{Last: "500d", Cause: "dropped"})
	require.NoError(t, err)
	assert.Empty(t, found.Gaps, "nothing of it is at the central")

	// The central comes, and the gateway takes in more than it has room for.
	_, head := service(t, dir, "central", fmt.Sprintf(copiedCentral, dir, "head-office", port))
	most := sent + 12
	for ; sent < most; sent++ {
		day := first.Add(time.Duration(sent) * 24 * time.Hour)
		eventually(t, "there is room again", func() bool {
			return pushDay(t, gateway.Base(), day, 10*time.Second) == nil
		})
	}
	wanted := float64(sent * rowsOfADay)
	counted := func(c *client.Client) float64 {
		windows, err := c.Windows(t.Context(), client.WindowsQuery{
			Select: []string{"stony-beck/#"}, From: first, To: first.Add(time.Duration(sent) * 24 * time.Hour), Width: "whole",
			Stats: []string{"count"},
		})
		if err != nil || len(windows.Series) == 0 {
			return 0
		}
		return windows.Series[0].Values["count"][0]
	}
	eventually(t, "the central has the summaries of all", func() bool { return counted(head) == wanted })
	assert.Equal(t, wanted, counted(gateway), "the gateway still has them, too")

	found, err = gateway.Gaps(t.Context(), client.GapsQuery{Last: "500d", Cause: "dropped"})
	require.NoError(t, err)
	// Narrow summaries that the central has may have to go as well, if what waits to be sealed is much.
	readings := slices.DeleteFunc(slices.Clone(found.Gaps), func(g client.Gap) bool { return g.Of != "readings" })
	require.Len(t, readings, 1, "what goes on is one gap")
	gap := readings[0]
	assert.WithinDuration(t, first, gap.From, 10*time.Second)
	here := func(from, to time.Time) int {
		got, err := gateway.Readings(t.Context(), client.ReadingsQuery{Select: "stony-beck/#", From: from, To: to, Most: 2 * rowsOfADay})
		if err != nil || len(got.Series) == 0 {
			return 0
		}
		return len(got.Series[0].Readings)
	}
	assert.Zero(t, here(first, *gap.To), "what is told to be missing is")
	end := first.Add(time.Duration(sent) * 24 * time.Hour)
	for day := gap.To.Truncate(24 * time.Hour).Add(24 * time.Hour); day.Before(end); day = day.Add(24 * time.Hour) {
		assert.Equal(t, rowsOfADay, here(day, day.Add(24*time.Hour)), "and nothing else: %s", day)
	}
	eventually(t, "the file has 12 MB, the journal, and what is not given back yet", func() bool {
		info, err := os.Stat(filepath.Join(dir, "data", "nexocumula.db"))
		return err == nil && info.Size() < 24<<20
	})
	dropped := func(c *client.Client) (of []client.Gap) {
		got, err := c.Gaps(t.Context(), client.GapsQuery{Last: "500d", Cause: "dropped"})
		if err != nil {
			return nil
		}
		return got.Gaps
	}
	eventually(t, "the central knows of it", func() bool {
		here, there := dropped(gateway), dropped(head)
		return len(here) > 0 && assert.ObjectsAreEqual(here, there)
	})
}
