package e2e

import (
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// pushAt sends readings of times and waits until they are acknowledged.
func pushAt(t *testing.T, base string, times []time.Time) {
	t.Helper()
	var lines []string
	for _, at := range times {
		lines = append(lines, fmt.Sprintf(`{"n":"raceway-1/oxygen","u":"mg/l","t":%d,"v":8}`, at.Unix()))
	}
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, base+"/api/v1/readings",
		strings.NewReader("["+strings.Join(lines, ",")+"]"))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer salmon run at dawn")
	request.Header.Set("Content-Type", "application/senml+json")
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, http.StatusOK, answer.StatusCode)
}

// holes are the gaps that all readings leave, by the definition in docs/gaps.md: each from a minute after a reading to
// the next, where that came later than two minutes.
func holes(times []time.Time) (out []string) {
	slices.SortFunc(times, time.Time.Compare)
	for i := 1; i < len(times); i++ {
		if times[i].Sub(times[i-1]) > 2*time.Minute {
			out = append(out, span(times[i-1].Add(time.Minute), &times[i]))
		}
	}
	return out
}

func span(from time.Time, to *time.Time) string {
	if to == nil {
		return from.UTC().Format(time.RFC3339) + " on"
	}
	return from.UTC().Format(time.RFC3339) + " " + to.UTC().Format(time.RFC3339)
}

// TestGapsAreThoseOfAllReadingsAtBothEnds sends readings of a day in parts, early ones late, kills the gateway now and
// then, and compares.
func TestGapsAreThoseOfAllReadingsAtBothEnds(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	gateway, head := p.gateway, p.head
	r := rand.New(rand.NewPCG(29, 1))
	at := time.Now().Add(-23 * time.Hour).Truncate(time.Hour)
	var all []time.Time
	for end := time.Now().Add(-time.Minute); at.Before(end); {
		all = append(all, at)
		at = at.Add(time.Duration([]int{10, 10, 30, 50, 110, 130, 900}[r.IntN(7)]) * time.Second)
	}
	all = append(all, time.Now().Truncate(time.Second)) // so that it is not silent
	parts := make([][]time.Time, 12)
	for i, one := range all {
		k := i * len(parts) / len(all)
		if r.IntN(4) == 0 {
			k = r.IntN(len(parts))
		}
		parts[k] = append(parts[k], one)
	}
	parts[0] = append([]time.Time{all[0]}, parts[0]...) // the first is known from the beginning
	for i, part := range parts {
		pushAt(t, gateway.Base(), part)
		if i%4 == 3 {
			p.killGateway()
			gateway = p.gateway
		}
	}
	wanted := holes(all)
	require.Greater(t, len(wanted), 50)
	q := client.GapsQuery{Select: "stony-beck/#", Last: "2d", Limit: 1000}
	list := func(c *client.Client) (out []string) {
		got, err := c.Gaps(t.Context(), q)
		if err != nil {
			return []string{err.Error()}
		}
		assert.True(t, slices.IsSortedFunc(got.Gaps, func(a, b client.Gap) int { return int(b.LengthMS - a.LengthMS) }))
		for _, g := range got.Gaps {
			if g.To != nil {
				out = append(out, span(g.From, g.To))
			}
		}
		slices.Sort(out)
		return out
	}
	assert.Equal(t, wanted, list(gateway))
	eventually(t, "the central knows the same", func() bool { return slices.Equal(wanted, list(head)) })

	person := newPerson(t, head.Base())
	told := person.does("", "gaps", "stony-beck/#", "--last", "2d", "--limit", "3")
	assert.Contains(t, told, "shorter ones are left out")
	assert.Contains(t, told, "not known", "they are of before the gateway's first run")

	// Windows tell the cause where something is missing, and nothing where nothing is.
	answer, err := http.Get(head.Base() + "/api/v1/windows?select=stony-beck/raceway-1/oxygen&last=20h&width=10m&stats=coverage&format=csv")
	require.NoError(t, err)
	defer answer.Body.Close()
	rows, err := csv.NewReader(answer.Body).ReadAll()
	require.NoError(t, err)
	require.Equal(t, "missing", rows[0][len(rows[0])-1])
	missing := 0
	for _, row := range rows[1:] {
		from, err := time.Parse(time.RFC3339, row[1])
		require.NoError(t, err)
		reaches := slices.ContainsFunc(wanted, func(one string) bool {
			ends := strings.Fields(one)
			return ends[0] < from.Add(10*time.Minute).Format(time.RFC3339) && ends[1] > from.Format(time.RFC3339)
		})
		if said := row[len(row)-1]; reaches {
			assert.NotEmpty(t, said, row)
			missing++
		} else if row[9] == "false" {
			assert.Empty(t, said, row)
		}
	}
	assert.Greater(t, missing, 20)
}
