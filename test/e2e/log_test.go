package e2e

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A log tells scripts what began and ended, with which version and configuration, and what is down.
func TestALogIsForScriptsToo(t *testing.T) {
	t.Parallel()
	program, err := binary()
	require.NoError(t, err)
	dir := t.TempDir()
	file := filepath.Join(dir, "gateway.yaml")
	text := fmt.Sprintf(`data: %s/data
listen: 127.0.0.1:0
log: { format: json }
gateway:
  site: long-mere
  sources:
    - name: probes
      modbus:
        address: tcp://127.0.0.1:1
        registers: [{ unit: 1, table: input, address: 0, type: int16, series: buoy-1/oxygen }]
`, dir)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	log, err := os.Create(filepath.Join(dir, "log"))
	require.NoError(t, err)
	defer log.Close()
	cmd := exec.Command(program, "run", "--config", file)
	cmd.Env, cmd.Stderr = append(os.Environ(), "JOURNAL_STREAM=8:1"), log
	require.NoError(t, cmd.Start())
	lines := func(event string) (out []map[string]any) {
		all, err := os.ReadFile(log.Name())
		require.NoError(t, err)
		for line := range strings.Lines(string(all)) {
			_, line, ok := strings.Cut(line, ">")
			var one map[string]any
			require.True(t, ok)
			require.NoError(t, json.Unmarshal([]byte(line), &one), line)
			if one["event"] == event {
				out = append(out, one)
			}
		}
		return out
	}
	eventually(t, "the source is down for longer than a moment", func() bool { return len(lines("link.down")) > 0 })
	complete := exec.Command(program, "source", "read", "--generate-shell-completion")
	complete.Env = append(os.Environ(), "NEXOCUMULA_AT="+lines("service.started")[0]["address"].(string))
	completed, err := complete.CombinedOutput()
	require.NoError(t, err, string(completed))
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.NoError(t, cmd.Wait())
	sum := fmt.Sprintf("%x", sha256.Sum256([]byte(text)))
	began, ended := lines("service.started"), lines("service.stopped")
	require.Len(t, began, 1)
	require.Len(t, ended, 1)
	assert.Equal(t, []any{sum, file, "INFO"}, []any{began[0]["sum"], began[0]["configuration"], began[0]["level"]})
	assert.Equal(t, began[0]["version"], ended[0]["version"])
	down := lines("link.down")[0]
	assert.Contains(t, string(completed), "probes\n", "a shell asks the service that the environment names")
	assert.Equal(t, []any{"source probes", "WARN"}, []any{down["link"], down["level"]})
	assert.NotEmpty(t, down["reason"])
	all, err := os.ReadFile(log.Name())
	require.NoError(t, err)
	assert.Contains(t, string(all), "<6>{")
	assert.Contains(t, string(all), "<4>{")
}
