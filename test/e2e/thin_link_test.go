package e2e

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// An uplink that may use little goes slowly and stops when the day is used up, but for what is important; over a restart it knows what it
// has used.
func TestAThinLinkIsUsedNoMoreThanItMayBe(t *testing.T) {
	t.Parallel()
	dir, port := t.TempDir(), freePort(t)
	for name, text := range map[string]string{"secret": "salmon run at dawn", "link": "a stone in the river 77"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	limits := `{ rate: 400 kbit, per_day: 110kB, important: ["+/raceway-9/#"] }`
	config := strings.Replace(fmt.Sprintf(copied, dir, "data", port), "secret_file: "+dir+"/link", "secret_file: "+dir+"/link, limits: "+limits, 1)
	_, head := service(t, dir, "central", fmt.Sprintf(copiedCentral, dir, "head-office", port))
	p, gateway := service(t, dir, "gateway", config)
	first := time.Now().UTC().AddDate(0, 0, -6).Truncate(24 * time.Hour)
	const days = 5
	for i := range days {
		require.NoError(t, pushDay(t, gateway.Base(), first.AddDate(0, 0, i), patience))
	}
	used := func() (today uint64, left uint64) {
		links, err := gateway.Uplinks(t.Context())
		if err != nil || links.Sending[0].BytesLeft == nil {
			return 0, 1
		}
		return links.Sending[0].BytesToday, *links.Sending[0].BytesLeft
	}
	eventually(t, "the day is used up", func() bool { _, left := used(); return left == 0 })
	today, _ := used()
	assert.Less(t, today, uint64(220_000), "a batch that had begun goes on")
	here := countOf(t, head, first, first.AddDate(0, 0, days))
	assert.Less(t, here, days*rowsOfADay)

	require.Zero(t, p.interrupt(t))
	_, gateway = service(t, dir, "gateway", config)
	_, left := used()
	assert.Zero(t, left, "it has not forgotten")
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, gateway.Base()+"/api/v1/readings",
		strings.NewReader(fmt.Sprintf(`[{"n":"raceway-9/oxygen","u":"mg/l","t":%d,"v":4},{"n":"raceway-9/oxygen","u":"mg/l","t":%d,"v":5}]`, time.Now().Unix()-90, time.Now().Unix())))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer salmon run at dawn")
	request.Header.Set("Content-Type", "application/senml+json")
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, http.StatusOK, answer.StatusCode)
	eventually(t, "what is important goes", func() bool {
		now, err := head.Now(t.Context(), "stony-beck/raceway-9/oxygen")
		return err == nil && len(now.Values) == 1
	})
	assert.Equal(t, here, countOf(t, head, first, first.AddDate(0, 0, days)), "and nothing else")
	links, err := head.Uplinks(t.Context())
	require.NoError(t, err)
	assert.True(t, links.Receiving[0].Up, "it speaks seldom, and says so")
	said := newPerson(t, gateway.Base()).does("", "uplink", "list")
	assert.Contains(t, said, "this month crossed the link; 0 B may still go today")
}

// What waited comes in the order that the configuration has: at any moment the central has all of an hour before
// anything of those that come after it.
func TestWhatWaitedComesInTheOrderThatIsWanted(t *testing.T) {
	t.Parallel()
	for _, order := range []string{"newest", "oldest"} {
		t.Run(order, func(t *testing.T) {
			t.Parallel()
			dir, port := t.TempDir(), freePort(t)
			for name, text := range map[string]string{"secret": "salmon run at dawn", "link": "a stone in the river 77"} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
			}
			_, gateway := service(t, dir, "gateway", strings.Replace(fmt.Sprintf(copied, dir, "data", port), "secret_file: "+dir+"/link",
				"secret_file: "+dir+"/link, order: "+order+", limits: { rate: 160 kbit }", 1))
			first := time.Now().UTC().AddDate(0, 0, -2).Truncate(24 * time.Hour)
			require.NoError(t, pushDay(t, gateway.Base(), first, patience))
			eventually(t, "all of it waits", func() bool {
				links, err := gateway.Uplinks(t.Context())
				return err == nil && links.Sending[0].BacklogRows > 0
			})
			all := hourly(t, gateway, first)
			_, head := service(t, dir, "central", fmt.Sprintf(copiedCentral, dir, "head-office", port))
			seen := map[int]bool{}
			eventually(t, "all of it has arrived", func() bool {
				there := hourly(t, head, first)
				if len(there) != len(all) {
					return false
				}
				some := 0
				for hour, n := range there {
					switch {
					case n > 0 && n < all[hour]:
						some++
					case n == all[hour] && n > 0:
						seen[hour] = true
					}
					before := hour - 1
					if order == "newest" {
						before = hour + 1
					}
					if n > 0 && before >= 0 && before < len(all) {
						require.Equal(t, all[before], there[before], "of hour %d there is something", hour)
					}
				}
				require.LessOrEqual(t, some, 1)
				return assert.ObjectsAreEqual(all, there)
			})
			assert.NotEmpty(t, seen)
		})
	}
}

// hourly counts the readings of each hour of a day.
func hourly(t *testing.T, c *client.Client, day time.Time) (out []float64) {
	t.Helper()
	windows, err := c.Windows(t.Context(), client.WindowsQuery{
		Select: []string{"stony-beck/raceway-1/oxygen"}, From: day, To: day.AddDate(0, 0, 1), Width: "1h", Stats: []string{"count"},
	})
	if err != nil || len(windows.Series) == 0 {
		return nil
	}
	for _, n := range windows.Series[0].Values["count"] {
		out = append(out, max(0, float64(n)))
	}
	return out
}
