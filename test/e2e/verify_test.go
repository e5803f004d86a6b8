package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A store is looked through while its service runs, and after its file was damaged.
func TestVerifyingAStoreThatIsInUse(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("salmon run at dawn"), 0o600))
	config := "data: " + dir + "/data\nlisten: 127.0.0.1:0\ngateway:\n  site: stony-beck\n  sources:\n" +
		"    - name: scripts\n      http_push: { senders: [{ name: lake, secret_file: " + secret + " }] }\n"
	p, gateway := service(t, dir, "gateway", config)
	push, err := http.NewRequestWithContext(t.Context(), http.MethodPost, gateway.Base()+"/api/v1/readings",
		strings.NewReader(`[{"bn":"raceway-1/oxygen","bu":"mg/l","v":8.5},{"t":-60,"v":8.25}]`))
	require.NoError(t, err)
	push.Header.Set("Authorization", "Bearer salmon run at dawn")
	push.Header.Set("Content-Type", "application/senml+json")
	answer, err := http.DefaultClient.Do(push)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, http.StatusOK, answer.StatusCode)
	person, file := newPerson(t, gateway.Base()), filepath.Join(dir, "gateway.yaml")
	assert.Contains(t, person.does("", "verify", "--config", file), "All is whole: 1 series, ")

	require.NoError(t, p.cmd.Process.Signal(os.Interrupt)) // which seals
	<-p.ended
	store := filepath.Join(dir, "data", "nexocumula.db")
	good, err := os.ReadFile(store)
	require.NoError(t, err)
	at := strings.Index(string(good), "stony-beck/raceway-1/oxygen")
	require.Positive(t, at)
	for ; at >= 0; at = strings.Index(string(good), "stony-beck/raceway-1/oxygen") {
		good[at] = 'S'
	}
	require.NoError(t, os.WriteFile(store, good, 0o600))
	out, err := person.run("", "verify", "--config", file)
	require.Error(t, err)
	assert.Equal(t, 1, exitOf(t, err))
	assert.Contains(t, out, "the series' definition does not match its checksum")
	before, err := os.ReadFile(store)
	require.NoError(t, err)
	assert.Equal(t, good, before, "nothing was changed")
	out, err = person.run("", "verify", "--config", file, "--rate", "0")
	require.Error(t, err)
	assert.Equal(t, 2, exitOf(t, err), out)
}
