package e2e

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/rounds"
	"nexocumula/test/powercut"
)

// promised is what a service has acknowledged, and when.
type promised struct {
	mu  sync.Mutex
	all []promise
}

type promise struct {
	at   float64 // seconds since 1970, when the answer was here
	what string
}

func (p *promised) note(what string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.all = append(p.all, promise{float64(time.Now().UnixMicro()) / 1e6, what})
}

// until returns what was promised before a moment.
func (p *promised) until(moment float64) (out []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, one := range p.all {
		if one.at < moment {
			out = append(out, one.what)
		}
	}
	return out
}

// traced starts a service under strace, which records what it has the system write.
func traced(t *testing.T, record, config string) (end func(), c *client.Client) {
	t.Helper()
	strace, err := exec.LookPath("strace")
	require.NoError(t, err, "the tests need it")
	if out, err := exec.Command(strace, "-o", os.DevNull, "true").CombinedOutput(); err != nil {
		t.Skipf("no process may be traced here: %s", out)
	}
	program, err := binary()
	require.NoError(t, err)
	p := start(t, strace, append(append(powercut.Arguments(), "-o", record), program, "run", "--config", config)...)
	var address string
	eventually(t, "the service starts", func() bool {
		_, rest, ok := strings.Cut(p.output.String(), "interface at ")
		address, _, _ = strings.Cut(rest, "\n")
		return ok && strings.Contains(rest, "\n")
	})
	return func() {
		// strace goes on until the program has ended.
		out, err := exec.Command("pkill", "-INT", "-P", fmt.Sprint(p.cmd.Process.Pid)).CombinedOutput()
		require.NoError(t, err, string(out))
		<-p.ended
	}, client.New(address)
}

// used sends a service readings, and notes, boards and accounts between them, and returns what it acknowledged.
func used(t *testing.T, c *client.Client, begin time.Time, readings int) *promised {
	t.Helper()
	kept := &promised{}
	for i := range readings {
		at := begin.Add(time.Duration(i) * 10 * time.Second)
		request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, c.Base()+"/api/v1/readings",
			strings.NewReader(fmt.Sprintf(`[{"n":"raceway-1/oxygen","u":"mg/l","t":%d,"v":%d}]`, at.Unix(), i)))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer salmon run at dawn")
		request.Header.Set("Content-Type", "application/senml+json")
		answer, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		answer.Body.Close()
		require.Equal(t, http.StatusOK, answer.StatusCode)
		kept.note(fmt.Sprintf("reading %d", i))
		switch i % 10 {
		case 3:
			_, err := c.AddNote(t.Context(), client.NewNote{About: "stony-beck/raceway-1", Text: fmt.Sprintf("note %d", i)})
			require.NoError(t, err)
			kept.note(fmt.Sprintf("note %d", i))
		case 6:
			_, err := c.AddAccount(t.Context(), client.NewAccount{Name: fmt.Sprintf("ranger-%d", i), Role: "viewer"})
			require.NoError(t, err)
			kept.note(fmt.Sprintf("account ranger-%d", i))
		}
	}
	return kept
}

// found is all that a service has of that, each as often as it has it.
func found(t *testing.T, c *client.Client, begin time.Time, readings int) map[string]int {
	t.Helper()
	out := map[string]int{}
	answer, err := c.Readings(t.Context(), client.ReadingsQuery{Select: "stony-beck/raceway-1/oxygen", From: begin, To: begin.Add(time.Duration(readings) * 10 * time.Second), Most: 2 * readings})
	if refused, ok := err.(*client.Error); !ok || refused.Code != "unknown_series" {
		require.NoError(t, err)
		for _, s := range answer.Series {
			for _, r := range s.Readings {
				out[fmt.Sprintf("reading %v", r.Value)]++
				assert.Equal(t, begin.Add(time.Duration(r.Value)*10*time.Second), r.Time.UTC(), "it has its time")
			}
		}
	}
	notes, err := c.Notes(t.Context(), "", "")
	require.NoError(t, err)
	for _, n := range notes.Notes {
		out[n.Text]++
	}
	accounts, err := c.Accounts(t.Context())
	require.NoError(t, err)
	for _, a := range accounts.Accounts {
		out["account "+a.Name]++
	}
	return out
}

// The power fails at random moments, and the disk has of what was not synced what it happens to have: what was acknowledged
// is there, once, the store is whole, and the summaries are those of its readings.
func TestAPowerCutLosesNothingThatWasAcknowledged(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("salmon run at dawn"), 0o600))
	config := func(data string) string {
		return "data: " + data + "\nlisten: 127.0.0.1:0\ngateway:\n  site: stony-beck\n  sources:\n" +
			"    - name: scripts\n      http_push: { senders: [{ name: lake, secret_file: " + secret + " }] }\n"
	}
	file, record := filepath.Join(dir, "gateway.yaml"), filepath.Join(dir, "record")
	require.NoError(t, os.WriteFile(file, []byte(config(filepath.Join(dir, "data"))), 0o600))
	end, gateway := traced(t, record, file)
	const readings = 150
	begin := time.Now().UTC().Add(-2 * time.Hour).Truncate(time.Hour)
	kept := used(t, gateway, begin, readings)
	end()

	log, err := os.Open(record)
	require.NoError(t, err)
	defer log.Close()
	trace, err := powercut.Read(log, filepath.Join(dir, "data"))
	require.NoError(t, err)
	const seed = 29
	random := rand.New(rand.NewPCG(seed, 1))
	cuts, lost, doubled, wrong := rounds.Of(20), 0, 0, 0
	for i := range cuts {
		moment := trace.Begin() + random.Float64()*(trace.End()-trace.Begin()+0.01)
		data := filepath.Join(dir, fmt.Sprint("cut-", i))
		require.NoError(t, trace.Cut(moment, random, data))
		p, again := service(t, dir, fmt.Sprint("again-", i), config(data))
		has := found(t, again, begin, readings)
		for _, what := range kept.until(moment) {
			if has[what] == 0 {
				lost++
				t.Errorf("cut %d at %f: %s is lost", i, moment, what)
			}
		}
		for what, n := range has {
			if n > 1 {
				doubled++
				t.Errorf("cut %d: %s is there %d times", i, what, n)
			}
		}
		health, err := again.Health(t.Context())
		require.NoError(t, err)
		if !assert.Equal(t, "ok", health.Status, "cut %d at %f: %v", i, moment, health.Troubles) {
			wrong++
		}
		out := newPerson(t, again.Base()).does("", "verify", "--config", filepath.Join(dir, fmt.Sprint("again-", i)+".yaml"))
		assert.Contains(t, out, "All is whole: ")
		p.kill()
	}
	t.Logf("seed %d: power cuts %d, promises %d, lost %d, doubled %d, wrong %d", seed, cuts, len(kept.all), lost, doubled, wrong)
}
