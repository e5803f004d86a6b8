package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// systemd reads the unit, alone and with each drop-in, without a complaint.
func TestSystemdReadsTheUnit(t *testing.T) {
	verify, err := exec.LookPath("systemd-analyze")
	if err != nil {
		t.Skip("there is no systemd here")
	}
	program, err := binary()
	require.NoError(t, err)
	unit, err := os.ReadFile("../../deploy/nexocumula@.service")
	require.NoError(t, err)
	dropIns, err := filepath.Glob("../../deploy/drop-ins/*.conf")
	require.NoError(t, err)
	require.Len(t, dropIns, 5)
	for _, more := range append([]string{""}, dropIns...) {
		dir := t.TempDir()
		text := append([]byte("[Service]\nExecStart=\nExecStart="+program+" run --config /etc/nexocumula/%i.yaml\n"), '\n')
		require.NoError(t, os.WriteFile(filepath.Join(dir, "nexocumula@.service"), unit, 0o600))
		require.NoError(t, os.Mkdir(filepath.Join(dir, "nexocumula@x.service.d"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "nexocumula@x.service.d", "00-here.conf"), text, 0o600))
		if more != "" {
			text, err := os.ReadFile(more)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "nexocumula@x.service.d", filepath.Base(more)), text, 0o600))
		}
		cmd := exec.Command(verify, "--man=no", "verify", "nexocumula@x.service")
		cmd.Env = append(os.Environ(), "SYSTEMD_UNIT_PATH="+dir+":")
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, "%s: %s", more, out)
		assert.Empty(t, string(out), more)
	}
}
