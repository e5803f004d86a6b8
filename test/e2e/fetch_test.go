package e2e

import (
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

// chain is a gateway, its plant's central, and the central of the company above that.
type chain struct {
	t                          *testing.T
	dir                        string
	ports                      [3]string
	gateway, plant, company    *client.Client
	gatewayRuns, plantRuns     *process
	gatewayConfig, plantConfig string
	companyConfig              string
}

const (
	chainGateway = `data: %[1]s/gateway
listen: 127.0.0.1:%[2]s
gateway:
  site: stony-beck
  sources:
    - name: scripts
      http_push: { senders: [{ name: lake, secret_file: %[1]s/secret }] }
  uplinks: [{ name: plant, address: "http://127.0.0.1:%[3]s", secret_file: %[1]s/link%[4]s }]
`
	chainCentral = `data: %[1]s/%[2]s
listen: 127.0.0.1:%[3]s
central:
  name: %[2]s
  accept: [{ gateway: %[4]s, sites: [stony-beck], secret_file: %[1]s/link }]
  uplinks: [%[5]s]
`
)

func newChain(t *testing.T, allow string) *chain {
	t.Helper()
	c := &chain{t: t, dir: t.TempDir(), ports: [3]string{freePort(t), freePort(t), freePort(t)}}
	for name, text := range map[string]string{"secret": "salmon run at dawn", "link": "a stone in the river 77"} {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), []byte(text), 0o600))
	}
	c.gatewayConfig = fmt.Sprintf(chainGateway, c.dir, c.ports[0], c.ports[1], allow)
	up := func(port string) string {
		return fmt.Sprintf(`{ name: up, address: "http://127.0.0.1:%s", secret_file: %s/link }`, port, c.dir)
	}
	c.plantConfig = fmt.Sprintf(chainCentral, c.dir, "plant", c.ports[1], "stony-beck", up(c.ports[2]))
	c.companyConfig = fmt.Sprintf(chainCentral, c.dir, "company", c.ports[2], "plant", "")
	_, c.company = service(t, c.dir, "company", c.companyConfig)
	c.plantRuns, c.plant = service(t, c.dir, "plant", c.plantConfig)
	c.gatewayRuns, c.gateway = service(t, c.dir, "gateway", c.gatewayConfig)
	return c
}

// percentiles are what only readings can say.
func percentiles(t *testing.T, c *client.Client, from, to time.Time) (string, error) {
	t.Helper()
	got, err := c.Windows(t.Context(), client.WindowsQuery{
		Select: []string{"stony-beck/#"}, From: from, To: to, Width: "7m", Stats: []string{"count", "p50", "p95", "min", "twa", "above_share:8"},
	})
	if err != nil {
		return "", err
	}
	return fmt.Sprint(got.Starts, got.Series[0].Values, got.Series[0].Tier), nil
}

func countOf(t *testing.T, c *client.Client, from, to time.Time) int {
	t.Helper()
	got, err := c.Windows(t.Context(), client.WindowsQuery{Select: []string{"stony-beck/#"}, From: from, To: to, Width: "whole", Stats: []string{"count"}})
	if err != nil || len(got.Series) == 0 {
		return 0
	}
	return int(got.Series[0].Values["count"][0])
}

// Readings of a gateway are fetched to its central and to the one above that, through kills of both ends; what they
// say is what the gateway says, and a late reading makes them incomplete.
func TestFetchedReadingsSayWhatTheGatewaySays(t *testing.T) {
	t.Parallel()
	c := newChain(t, "")
	day := time.Now().UTC().AddDate(0, 0, -2).Truncate(24 * time.Hour)
	require.NoError(t, pushDay(t, c.gateway.Base(), day, patience))
	end := day.Add(24 * time.Hour)
	eventually(t, "the summaries are everywhere", func() bool { return countOf(t, c.company, day, end) == rowsOfADay })
	eventually(t, "the company knows who sends to its plant", func() bool {
		links, err := c.company.Uplinks(t.Context())
		return err == nil && len(links.Receiving) == 1 && assert.ObjectsAreEqual([]client.Below{{Name: "stony-beck", Up: true, Below: []client.Below{}}}, links.Receiving[0].Below)
	})
	assert.Contains(t, newPerson(t, c.company.Base()).does("", "uplink", "list"), "plant: gets from stony-beck\n")
	_, err := percentiles(t, c.company, day, day.Add(6*time.Hour))
	require.ErrorContains(t, err, "fetch the readings")

	from, to := day.Add(time.Hour), day.Add(20*time.Hour)
	asks := client.NewRequest{Kind: "readings", Select: "stony-beck/#", From: &from, To: &to}
	made, err := c.company.AskGateways(t.Context(), asks)
	require.NoError(t, err)
	require.Len(t, made.Requests, 1)
	c.gatewayRuns.kill()
	c.plantRuns.kill()
	c.plantRuns, c.plant = service(t, c.dir, "plant", c.plantConfig)
	c.gatewayRuns, c.gateway = service(t, c.dir, "gateway", c.gatewayConfig)
	var r client.Request
	eventually(t, "it is done", func() bool {
		r, err = c.company.Request(t.Context(), made.Requests[0].ID)
		require.NoError(t, err)
		return r.Over()
	})
	require.Equal(t, "done", r.State, r.Detail)
	want, err := percentiles(t, c.gateway, day.Add(2*time.Hour), day.Add(19*time.Hour))
	require.NoError(t, err)
	for _, at := range []*client.Client{c.plant, c.company} {
		got, err := percentiles(t, at, day.Add(2*time.Hour), day.Add(19*time.Hour))
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err = percentiles(t, c.company, day, day.Add(19*time.Hour))
	require.ErrorContains(t, err, "fetch the readings", "of the first hour nothing was fetched")
	theirs, err := c.company.Readings(t.Context(), client.ReadingsQuery{Select: "stony-beck/#", From: from, To: to, Most: 2 * rowsOfADay})
	require.NoError(t, err)
	ours, err := c.gateway.Readings(t.Context(), client.ReadingsQuery{Select: "stony-beck/#", From: from, To: to, Most: 2 * rowsOfADay})
	require.NoError(t, err)
	assert.Equal(t, ours, theirs)

	// A late reading comes: what was fetched of its window is not all any more.
	p := &pushing{t: t, begin: day.Add(10*time.Hour + 5*time.Second)}
	p.push(c.gateway.Base())
	eventually(t, "it is there", func() bool { return countOf(t, c.company, day, end) == rowsOfADay+1 })
	_, err = percentiles(t, c.company, day.Add(2*time.Hour), day.Add(19*time.Hour))
	require.ErrorContains(t, err, "fetch the readings")
	_, err = percentiles(t, c.company, day.Add(11*time.Hour), day.Add(19*time.Hour))
	require.NoError(t, err, "around it nothing changed")

	for _, at := range []*client.Client{c.company, c.plant, c.gateway} {
		entries, err := at.Audit(t.Context(), client.AuditQuery{Action: "requests"})
		require.NoError(t, err)
		assert.GreaterOrEqual(t, len(entries.Entries), 2, at.Base())
	}
	health, err := c.company.Health(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "ok", health.Status, health.Troubles)
}

// What a gateway's file does not allow is refused with the reason, what nobody answers expires, and what no gateway has
// yet can be withdrawn.
func TestRequestsThatAreNotCarriedOutSayWhy(t *testing.T) {
	t.Parallel()
	c := newChain(t, ", allow: [read]")
	day := time.Now().UTC().AddDate(0, 0, -2).Truncate(24 * time.Hour)
	require.NoError(t, pushDay(t, c.gateway.Base(), day, patience))
	eventually(t, "the summaries are there", func() bool { return countOf(t, c.plant, day, day.Add(24*time.Hour)) == rowsOfADay })
	warden := newPerson(t, c.plant.Base())
	said := warden.refused("", "fetch", "stony-beck/#", "--from", day.Format(time.RFC3339), "--to", day.Add(time.Hour).Format(time.RFC3339))
	assert.Contains(t, said, "uplink plant does not allow requests of kind readings: its allow: has read")
	assert.Contains(t, warden.refused("", "request", "read", "stony-beck", "probes"), `no source that asks devices is called "probes"; this gateway has none`)
	assert.Contains(t, warden.refused("", "request", "read", "nowhere", "probes"), "no gateway that sends to this service has site nowhere")

	pinned, err := c.plant.AddNote(t.Context(), client.NewNote{About: "stony-beck/raceway-1", Text: "look at the inlet"})
	require.NoError(t, err)
	assert.Contains(t, warden.refused("", "note", "send", fmt.Sprint(pinned.ID)), "does not allow requests of kind notes")
	c.gatewayRuns.kill()
	c.gatewayConfig = strings.Replace(c.gatewayConfig, "[read]", "[read, notes]", 1)
	c.gatewayRuns, c.gateway = service(t, c.dir, "gateway", c.gatewayConfig)
	warden.does("", "note", "send", fmt.Sprint(pinned.ID))
	there, err := c.gateway.Notes(t.Context(), "", "")
	require.NoError(t, err)
	require.Len(t, there.Notes, 1)
	assert.Equal(t, "look at the inlet", there.Notes[0].Text)

	c.gatewayRuns.kill()
	said = warden.refused("", "request", "read", "stony-beck", "probes", "--expires", "2s")
	assert.Contains(t, said, "expired: nobody answered before")
	made, err := c.plant.AskGateways(t.Context(), client.NewRequest{Kind: "read", Site: "stony-beck", Source: "probes"})
	require.NoError(t, err)
	id := made.Requests[0].ID
	assert.Contains(t, warden.does("", "request", "withdraw", id), "was withdrawn")
	assert.Contains(t, warden.refused("", "request", "withdraw", id), "can be withdrawn only before its gateway has it")
	assert.Contains(t, warden.does("", "request", "show", id), "withdrawn by nobody")
	c.gatewayRuns, c.gateway = service(t, c.dir, "gateway", c.gatewayConfig)
	asked, err := c.gateway.Requests(t.Context(), "", 0)
	require.NoError(t, err)
	for _, r := range asked.Requests {
		assert.NotEqual(t, id, r.ID)
	}
	assert.Len(t, asked.Requests, 4)
}

// Uplinks are added, narrowed and taken away by a reload; a central that would get its own summaries back says so.
func TestUplinksChangeWithAReloadAndLoopsAreNamed(t *testing.T) {
	t.Parallel()
	c := newChain(t, "")
	day := time.Now().UTC().AddDate(0, 0, -2).Truncate(24 * time.Hour)
	require.NoError(t, pushDay(t, c.gateway.Base(), day, patience))
	end := day.Add(24 * time.Hour)
	port := freePort(t)
	second := fmt.Sprintf("data: %s/county\nlisten: 127.0.0.1:%s\ncentral: { accept: [{ gateway: stony-beck, secret_file: %[1]s/link }] }\n", c.dir, port)
	_, county := service(t, c.dir, "county", second)
	reload := func(more string) []string {
		text := c.gatewayConfig[:len(c.gatewayConfig)-2] + more + "]\n"
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, "gateway.yaml"), []byte(text), 0o600))
		done, err := c.gateway.Reload(t.Context())
		require.NoError(t, err)
		assert.Empty(t, done.Restart)
		return done.Applied
	}
	to := fmt.Sprintf(`, { name: county, address: "http://127.0.0.1:%s", secret_file: %s/link, tiers: [1m], select: [%%s], records: [gaps] }`, port, c.dir)
	assert.Equal(t, []string{"uplink county"}, reload(fmt.Sprintf(to, "stony-beck/raceway-9/#")))
	_, err := c.gateway.AddNote(t.Context(), client.NewNote{About: "stony-beck", Text: "ice on the inlet"})
	require.NoError(t, err)
	eventually(t, "the first has all", func() bool { return countOf(t, c.plant, day, end) == rowsOfADay })
	assert.Zero(t, countOf(t, county, day, end), "nothing of it is selected")
	assert.Equal(t, []string{"uplink county"}, reload(fmt.Sprintf(to, "+/+/oxygen")))
	eventually(t, "it is sent now", func() bool { return countOf(t, county, day, end) == rowsOfADay })
	notes, err := county.Notes(t.Context(), "", "")
	require.NoError(t, err)
	assert.Empty(t, notes.Notes)
	series, err := county.Series(t.Context(), "#")
	require.NoError(t, err)
	assert.Equal(t, []string{"1m"}, series.Series[0].Tiers)
	eventually(t, "records go where they are wanted", func() bool {
		notes, err := c.company.Notes(t.Context(), "", "")
		return err == nil && len(notes.Notes) == 1
	})
	assert.Equal(t, []string{"uplink county"}, reload(""))
	links, err := c.gateway.Uplinks(t.Context())
	require.NoError(t, err)
	assert.Len(t, links.Sending, 1)

	// The company sends back to the plant.
	back := fmt.Sprintf(`{ name: back, address: "http://127.0.0.1:%s", secret_file: %s/link }`, c.ports[1], c.dir)
	text := fmt.Sprintf(chainCentral, c.dir, "company", c.ports[2], "plant", back)
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "company.yaml"), []byte(text), 0o600))
	done, err := c.company.Reload(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"uplink back"}, done.Applied)
	// The plant does not accept the company yet.
	c.plantRuns.kill()
	accepting := fmt.Sprintf("data: %s/plant\nlisten: 127.0.0.1:%s\ncentral:\n  name: plant\n  accept: [{ gateway: stony-beck, secret_file: %[1]s/link }, { gateway: company, sites: [stony-beck], secret_file: %[1]s/secret }]\n  uplinks: [{ name: up, address: \"http://127.0.0.1:%[3]s\", secret_file: %[1]s/link }]\n",
		c.dir, c.ports[1], c.ports[2])
	c.plantRuns, c.plant = service(t, c.dir, "plant", accepting)
	text = fmt.Sprintf(chainCentral, c.dir, "company", c.ports[2], "plant", fmt.Sprintf(`{ name: back, address: "http://127.0.0.1:%s", secret_file: %s/secret }`, c.ports[1], c.dir))
	require.NoError(t, os.WriteFile(filepath.Join(c.dir, "company.yaml"), []byte(text), 0o600))
	_, err = c.company.Reload(t.Context())
	require.NoError(t, err)
	eventually(t, "the loop is named", func() bool {
		links, err := c.company.Uplinks(t.Context())
		return err == nil && len(links.Sending) == 1 &&
			links.Sending[0].LastError == "company would get its own summaries back: company sends to plant, which sends to company. Remove one of these uplinks"
	})
}

// Readings come to the central as they are made, while somebody follows them, though the gateway is killed meanwhile;
// once that is over, all of them are there and count as fetched.
func TestReadingsAreFollowedAsTheyAreMade(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	pushAt(t, p.gateway.Base(), []time.Time{time.Now().Add(-3 * time.Minute)})
	eventually(t, "the central knows the series", func() bool {
		found, err := p.head.Series(t.Context(), "stony-beck/#")
		return err == nil && len(found.Series) == 1
	})
	by := newPerson(t, p.head.Base())
	for _, wrong := range [][]string{{"--live-for", "11m"}, {"--live-for", "1m", "--to", "2026-03-01T00:00:00Z"}, {"--live-for", "-1s"}} {
		by.refused("", append([]string{"fetch", "stony-beck/#"}, wrong...)...)
	}
	follows := by.command("fetch", "stony-beck/raceway-1/oxygen", "--live-for", "12s")
	var printed lockedBuffer
	follows.Stdout, follows.Stderr = &printed, &printed
	require.NoError(t, follows.Start())
	begun := time.Now()
	t.Cleanup(func() { t.Log(printed.String()) })
	lines := func() int { return strings.Count(printed.String(), "stony-beck/raceway-1/oxygen") }
	var pushed []time.Time
	push := func() {
		pushed = append(pushed, time.Now().UTC().Truncate(time.Second).Add(time.Second)) // pushes have whole seconds
		pushAt(t, p.gateway.Base(), pushed[len(pushed)-1:])
	}
	eventually(t, "the gateway was asked", func() bool {
		asked, err := p.gateway.Requests(t.Context(), "", 10)
		return err == nil && len(asked.Requests) == 1
	})
	push()
	eventually(t, "it is printed while more may come", func() bool { return lines() == 1 })
	assert.Less(t, time.Since(begun), 12*time.Second, "it does not wait until the end")
	p.killGateway()
	push()
	eventually(t, "and after a kill", func() bool { return lines() == 2 })
	require.NoError(t, follows.Wait())
	assert.Equal(t, len(pushed), lines(), printed.String())
	got, err := p.head.Windows(t.Context(), client.WindowsQuery{
		Select: []string{"stony-beck/#"}, From: pushed[0], To: pushed[1].Add(time.Millisecond), Width: "whole", Stats: []string{"count", "p50"},
	})
	require.NoError(t, err)
	assert.InDelta(t, 2, float64(got.Series[0].Values["count"][0]), 0)
}
