package e2e

import (
	"database/sql"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"nexocumula/client"
)

// damage flips a byte in all chunks of a series and tier.
func damage(t *testing.T, data, path string, tier time.Duration) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(data, "nexocumula.db"))
	require.NoError(t, err)
	defer db.Close()
	done, err := db.Exec(`UPDATE chunks SET part0 = CAST(substr(part0, 1, 30) || x'5a' || substr(part0, 32) AS BLOB)
		WHERE tier = ? AND series = (SELECT id FROM series WHERE path = ?)`, int64(tier), path)
	require.NoError(t, err)
	n, err := done.RowsAffected()
	require.NoError(t, err)
	require.Positive(t, n)
}

// TestWhatIsDamagedIsMadeAgainOrToldToBeMissing damages summaries at both ends, and readings, while the services are off.
func TestWhatIsDamagedIsMadeAgainOrToldToBeMissing(t *testing.T) {
	t.Parallel()
	both := newPair(t)
	gateway, head := both.gateway, both.head
	first := time.Now().UTC().Add(-5 * time.Hour).Truncate(time.Hour)
	var text strings.Builder
	for i := range 720 {
		for station := 1; station <= 3; station++ {
			fmt.Fprintf(&text, `,{"n":"raceway-%d/oxygen","u":"mg/l","t":%d,"v":%g}`, station, first.Unix()+10*int64(i), 8+float64(i%17)/10)
		}
	}
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, gateway.Base()+"/api/v1/readings",
		strings.NewReader("["+text.String()[1:]+"]"))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer salmon run at dawn")
	request.Header.Set("Content-Type", "application/senml+json")
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, http.StatusOK, answer.StatusCode)
	asked := func(c *client.Client) (out string) {
		windows, err := c.Windows(t.Context(), client.WindowsQuery{
			Select: []string{"stony-beck/#"}, From: first, To: first.Add(2 * time.Hour), Width: "10s", Stats: []string{"count", "mean", "max"},
		})
		if err != nil {
			return err.Error()
		}
		for _, s := range windows.Series {
			out += fmt.Sprintln(s.Name, s.Values)
		}
		return out
	}
	var right string
	eventually(t, "both have all", func() bool {
		right = asked(gateway)
		return strings.Count(right, "count:[1 1 1 1") == 3 && right == asked(head)
	})
	for _, p := range []*process{both.gatewayRuns, both.centralRuns} {
		require.NoError(t, p.cmd.Process.Signal(os.Interrupt)) // which seals
		<-p.ended
	}
	damage(t, filepath.Join(both.dir, "data"), "stony-beck/raceway-1/oxygen", 10*time.Second)
	damage(t, filepath.Join(both.dir, "data"), "stony-beck/raceway-2/oxygen", 0)
	damage(t, filepath.Join(both.dir, "head-office"), "stony-beck/raceway-3/oxygen", 10*time.Second)

	both.startCentral()
	both.startGateway()
	gateway, head = both.gateway, both.head
	damaged := func(c *client.Client) int {
		health, err := c.Health(t.Context())
		require.NoError(t, err)
		return int(health.Damaged)
	}
	// A question finds it. What is asked of readings is left with what is here.
	_ = asked(head)
	_ = asked(gateway)
	_, err = gateway.Readings(t.Context(), client.ReadingsQuery{Select: "stony-beck/raceway-2/oxygen", From: first, To: first.Add(2 * time.Hour)})
	require.NoError(t, err)
	eventually(t, "the gateway's summaries are made again", func() bool { return asked(gateway) == right && damaged(gateway) == 1 })
	eventually(t, "the central got its summaries again", func() bool { return asked(head) == right && damaged(head) == 0 })
	eventually(t, "the readings are told to be missing at both ends", func() bool {
		for _, c := range []*client.Client{gateway, head} {
			found, err := c.Gaps(t.Context(), client.GapsQuery{Last: "1d", Cause: "damaged"})
			require.NoError(t, err)
			if len(found.Gaps) != 1 || found.Gaps[0].Of != "readings" || found.Gaps[0].Series != "stony-beck/raceway-2/oxygen" ||
				!assert.WithinDuration(t, first, found.Gaps[0].From, 10*time.Minute) {
				return false
			}
		}
		return true
	})
}
