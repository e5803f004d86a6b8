package e2e

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/client"
	"nexocumula/internal/rounds"
)

// beside are the files beside the store, and how many regions of each are damaged in turn.
var beside = map[string]int{"access.db": 12, "access.key": 2, "nexocumula.db-watermark": 6}

// TestNoDamageBesideTheStoreIsSilent flips a byte in each region of the files beside the store, or cuts them off there,
// while the service is off. The next start has all accounts and readings, or it says that something is wrong.
func TestNoDamageBesideTheStoreIsSilent(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secret"), []byte("salmon run at dawn"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "link"), []byte("a stone in the river 77"), 0o600))
	text := fmt.Sprintf(copied, dir, "data", freePort(t))
	p, gateway := service(t, dir, "gateway", text)
	pushAt(t, gateway.Base(), []time.Time{time.Now().Add(-time.Minute), time.Now()})
	person := newPerson(t, gateway.Base())
	for _, name := range []string{"gill", "sorrel", "wren"} {
		person.does("", "user", "add", name, "--role", "viewer")
	}
	state := func(base string) string {
		by := newPerson(t, base)
		return by.does("", "user", "list", "--output", "csv") + by.does("", "readings", "stony-beck/#", "--last", "1h", "--output", "csv")
	}
	whole := state(gateway.Base())
	require.Equal(t, 3, strings.Count(whole, ",viewer,"))
	require.NoError(t, p.cmd.Process.Signal(os.Interrupt))
	<-p.ended
	data := filepath.Join(dir, "data")
	good := map[string][]byte{}
	entries, err := os.ReadDir(data)
	require.NoError(t, err)
	for _, e := range entries {
		good[e.Name()], err = os.ReadFile(filepath.Join(data, e.Name()))
		require.NoError(t, err)
	}
	r := rand.New(rand.NewPCG(29, 6))
	told := 0
	for name, regions := range beside {
		require.NotEmpty(t, good[name], name)
		for region := range rounds.Of(regions) {
			size := len(good[name])
			at := min(size-1, size*(region%regions)/regions+r.IntN(max(1, size/regions)))
			bad := append([]byte{}, good[name]...)
			what := "flipped"
			if bad[at] ^= 1 << r.IntN(8); region%4 == 3 {
				bad, what = bad[:at], "cut"
			}
			require.NoError(t, os.RemoveAll(data))
			require.NoError(t, os.Mkdir(data, 0o700))
			for other, text := range good {
				if other == name {
					text = bad
				}
				require.NoError(t, os.WriteFile(filepath.Join(data, other), text, 0o600))
			}
			said, now := tried(t, dir, text, state)
			if said {
				told++
				continue
			}
			assert.Equal(t, whole, now, "%s, %s at byte %d of %d, and nobody is told", name, what, at, size)
		}
	}
	assert.Positive(t, told)
}

// tried starts the service and reports whether it, or its end, says that something is wrong; else how it stands.
func tried(t *testing.T, dir, config string, state func(base string) string) (said bool, now string) {
	t.Helper()
	path := filepath.Join(dir, "gateway.yaml")
	require.NoError(t, os.WriteFile(path, []byte(config), 0o600))
	program, err := binary()
	require.NoError(t, err)
	p := start(t, program, "run", "--config", path)
	defer p.kill()
	var address string
	eventually(t, "the service starts, or ends", func() bool {
		select {
		case <-p.ended:
			return true
		default:
		}
		_, rest, ok := strings.Cut(p.output.String(), "interface at ")
		address, _, _ = strings.Cut(rest, "\n")
		return ok && strings.Contains(rest, "\n")
	})
	text := p.output.String()
	require.NotContains(t, text, "goroutine ", "it must not crash")
	if address == "" {
		require.Contains(t, text, "nexocumula: ", "it says why it ended")
		return true, ""
	}
	if strings.Contains(text, "level=ERROR") {
		return true, ""
	}
	health, err := client.New(address).Health(t.Context())
	require.NoError(t, err)
	if len(health.Troubles) > 0 && !strings.Contains(strings.Join(health.Troubles, "\n"), "uplink head-office is down") {
		return true, ""
	}
	return false, state(address)
}

// TestADamagedCredentialIsTold flips a bit of a secret that a sender or the uplink introduces itself with. The sender is
// refused and the refusal is counted; the uplink says that the central does not accept it, and keeps what it has.
func TestADamagedCredentialIsTold(t *testing.T) {
	t.Parallel()
	p := newPair(t)
	r := rand.New(rand.NewPCG(29, 9))
	pushAt(t, p.gateway.Base(), []time.Time{time.Now().Add(-3 * time.Minute)})
	sends := func() bool {
		found, err := p.gateway.Uplinks(t.Context())
		return err == nil && len(found.Sending) == 1 && found.Sending[0].Up && found.Sending[0].BacklogRows == 0
	}
	eventually(t, "it sends", sends)
	for _, name := range []string{"secret", "link"} {
		file := filepath.Join(p.dir, name)
		good, err := os.ReadFile(file)
		require.NoError(t, err)
		for range rounds.Of(2) {
			bad := append([]byte{}, good...)
			bad[r.IntN(len(bad))] ^= 1 << r.IntN(7) // it stays text
			p.gatewayRuns.kill()
			require.NoError(t, os.WriteFile(file, bad, 0o600))
			said, _ := tried(t, p.dir, p.gatewayFile, func(base string) string {
				request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, base+"/api/v1/readings",
					strings.NewReader(fmt.Sprintf(`[{"n":"raceway-1/oxygen","u":"mg/l","t":%d,"v":9}]`, time.Now().Unix())))
				require.NoError(t, err)
				request.Header.Set("Authorization", "Bearer salmon run at dawn")
				request.Header.Set("Content-Type", "application/senml+json")
				answer, err := http.DefaultClient.Do(request)
				require.NoError(t, err)
				defer answer.Body.Close()
				if name == "secret" {
					assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, "%q", bad)
					return ""
				}
				assert.Equal(t, http.StatusOK, answer.StatusCode)
				at := client.New(base)
				eventually(t, "the uplink says why it is down", func() bool {
					found, err := at.Uplinks(t.Context())
					return err == nil && !found.Sending[0].Up && strings.Contains(found.Sending[0].LastError, "401")
				})
				health, err := at.Health(t.Context())
				require.NoError(t, err)
				assert.Contains(t, strings.Join(health.Troubles, "\n"), "head-office")
				return ""
			})
			_ = said // a secret that is no text any more ends the start, with its place
		}
		require.NoError(t, os.WriteFile(file, good, 0o600))
		p.startGateway()
		eventually(t, "with what it was before it goes on", sends)
	}
}
