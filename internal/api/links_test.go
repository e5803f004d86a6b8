package api_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/access"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/service"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
)

// cutOff has two links down for a while, an hour ago.
func cutOff(t *testing.T, s *service.Service) (fell time.Time) {
	fell = time.Now().UTC().Add(-time.Hour).Truncate(time.Second)
	up := fell.Add(10 * time.Minute)
	outages := []*records.Outage{
		{
			Link:     "to head-office",
			Began:    fell,
			Ended:    up,
			Reason:   "connection refused",
			Waited:   900,
			Oldest:   fell.Add(time.Second),
			CaughtUp: up.Add(20 * time.Second),
		},
		{Link: "from long-mere", Began: fell, Reason: "nothing was heard"},
	}
	var waiting []records.Waiting
	for i := range 5000 {
		waiting = append(waiting, records.Waiting{
			Link: "to head-office",
			At:   fell.Add(time.Duration(i) * 100 * time.Millisecond),
			Rows: i,
		})
	}
	require.NoError(t, s.Store.Links.Save(outages, waiting, records.Run{From: fell.Add(-time.Hour), To: up}))
	return fell
}

func TestTheHistoryOfLinksTellsOfOutages(t *testing.T) {
	s := serve(t)
	fell := cutOff(t, s)
	c := newContract(t, s.Address)
	status, _ := c.call("GET", "/api/v1/links?last=7d", nil, nil)
	assert.Equal(t, 200, status)
	for path, says := range map[string]string{
		"last=soon": "write a whole number", "range=never": "use last and a duration", "zone=Middle/Earth": "Middle/Earth", "from=2026-01-02&to=2026-01-01": "reversed", "until=now": "not known",
	} {
		status, text := c.call("GET", "/api/v1/links?"+path, nil, nil)
		assert.Equal(t, 400, status, path)
		assert.Contains(t, text, says, path)
	}
	found, err := client.New(s.Address).LinkHistory(t.Context(), "1d")
	require.NoError(t, err)
	by := map[string]client.LinkAccounts{}
	for _, l := range found.Links {
		by[l.Link] = l
	}
	uplink := by["to head-office"]
	require.NotEmpty(t, uplink.Outages)
	one := uplink.Outages[0]
	assert.Equal(t, fell, one.Began.UTC())
	assert.Equal(t, "connection refused", one.Reason)
	assert.Equal(t, 900, one.Waited)
	assert.Equal(t, int64((10*time.Minute+19*time.Second)/time.Millisecond), one.LongestMS)
	assert.LessOrEqual(t, len(uplink.Waiting), 2001, "a list has an end")
	most := 0
	for _, w := range uplink.Waiting {
		most = max(most, w.Rows)
	}
	assert.Equal(t, 4999, most, "the most that waited is in it")
	require.Len(t, by["from long-mere"].Outages, 1)
	assert.Nil(t, by["from long-mere"].Outages[0].Ended, "it is still down")
	assert.NotEmpty(t, found.Ran)

	before, err := client.New(s.Address).LinkHistory(t.Context(), "10m")
	require.NoError(t, err)
	for _, l := range before.Links {
		if l.Link == "to head-office" {
			for _, w := range l.Waiting { // a slow run notes its own
				assert.True(t, w.At.After(before.From), "what waited before is not in it")
			}
			for _, o := range l.Outages {
				assert.True(t, o.Ended == nil || o.Ended.After(before.From), "what was over before is not in it")
			}
		}
	}
}

// Links are for those who see all that they carry.
func TestLinksAreForThoseWhoSeeWhatTheyCarry(t *testing.T) {
	s, admin := guarded(t, bothConfig)
	cutOff(t, s)
	limited := client.New(s.Address).With(bearerOf(t, s, admin, "keeper", string(access.Viewer), "long-mere/#"))
	found, err := limited.LinkHistory(t.Context(), "1d")
	require.NoError(t, err)
	require.Len(t, found.Links, 1)
	assert.Equal(t, "from long-mere", found.Links[0].Link)
	units, err := limited.Units(t.Context())
	require.NoError(t, err)
	assert.Len(t, units.Units, 1, "only those of what he sees")
}

func TestNotesAreSearchedAndDownloaded(t *testing.T) {
	s := serve(t)
	cl := client.New(s.Address)
	for about, text := range map[string]string{
		"stony-beck":                  "Visit of the vet",
		"stony-beck/raceway-1":        "Probe cleaned",
		"stony-beck/raceway-1/oxygen": "Probe, with a \"quote\"",
		"long-mere":                   "Storm",
	} {
		_, err := cl.AddNote(t.Context(), client.NewNote{About: about, Text: text})
		require.NoError(t, err)
	}
	c := newContract(t, s.Address)
	texts := func(query string) (out []string) {
		status, text := c.call("GET", "/api/v1/notes?"+query, nil, nil)
		require.Equal(t, 200, status, text)
		for _, one := range []string{"Visit", "cleaned", "quote", "Storm"} {
			if strings.Contains(text, one) {
				out = append(out, one)
			}
		}
		return out
	}
	assert.Equal(t, []string{"Visit", "cleaned", "quote", "Storm"}, texts(""))
	assert.Equal(t, []string{"cleaned", "quote"}, texts("text=PROBE"))
	assert.Equal(t, []string{"cleaned"}, texts("text=probe+cleaned"))
	assert.Equal(t, []string{"quote"}, texts("text=probe+oxygen"), "the place counts too")
	assert.Equal(t, []string{"Visit", "cleaned", "quote"}, texts("select="+url.QueryEscape("stony-beck/raceway-1/#")),
		"a note about a site is one about its stations")
	assert.Equal(t, []string{"Storm"}, texts("select="+url.QueryEscape("long-mere/#")))
	status, text := c.call("GET", "/api/v1/notes?from=2026-01-02&to=2026-01-01", nil, nil)
	assert.Equal(t, 400, status)
	assert.Contains(t, text, "reversed")
	status, text = c.call("GET", "/api/v1/notes?format=csv&text=quote", nil, nil)
	assert.Equal(t, 200, status)
	lines := strings.Split(strings.TrimSpace(text), "\n")
	require.Len(t, lines, 2)
	assert.Equal(t, "id,at,about,text,author,written", lines[0])
	assert.Contains(t, lines[1], `,stony-beck/raceway-1/oxygen,"Probe, with a ""quote""",`)
	status, _ = c.call("GET", "/api/v1/notes?format=arrow", nil, nil)
	assert.Equal(t, 406, status)
}

// Rejects of a range are those whose readings are of it; of what has no time, those refused in it.
func TestRejectsAreFoundByTheTimeTheyAreOf(t *testing.T) {
	s := serve(t)
	refuse := func(of time.Time, refused time.Time, why string) {
		r := (&reading.Origin{Source: "own", Place: "feed/x", Raw: []byte("x")}).Reject(refused.UnixNano(), why)
		if !of.IsZero() {
			r.Reading = &reading.Reading{Path: "stony-beck/raceway-1/oxygen", Time: of.UnixNano(), Value: 99}
		}
		require.NoError(t,
			s.Store.Append(t.Context(), engine.Batch{Also: []sqlite.Change{s.Store.Rejects.Add([]reading.Reject{r})}}))
	}
	day := begin.Add(24 * time.Hour)
	refuse(day, day.Add(30*time.Hour), "late")
	refuse(day.Add(30*time.Hour), day, "ahead")
	refuse(time.Time{}, day.Add(time.Minute), "garbled")
	c := newContract(t, s.Address)
	query := fmt.Sprintf("/api/v1/rejects?from=%s&to=%s", day.Format(time.RFC3339),
		day.Add(time.Hour).Format(time.RFC3339))
	status, text := c.call("GET", query, nil, nil)
	assert.Equal(t, 200, status)
	assert.Contains(t, text, "late")
	assert.Contains(t, text, "garbled")
	assert.NotContains(t, text, "ahead")
	status, text = c.call("GET", query+"&select=stony-beck/%2B/oxygen", nil, nil)
	assert.Equal(t, 200, status)
	assert.NotContains(t, text, "garbled")
	status, text = c.call("GET", "/api/v1/rejects?from=2026-01-02&to=2026-01-01", nil, nil)
	assert.Equal(t, 400, status)
	assert.Contains(t, text, "reversed")
}
