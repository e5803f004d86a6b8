package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var anyBlock = regexp.MustCompile("(?s)```([a-z]*)\n(.*?)```")

// TestTheTenMinutesOfSecurityWorkAsTheyAreWritten follows docs/security.md from the first start to a gateway that
// replicates, with its ports and folders changed.
func TestTheTenMinutesOfSecurityWorkAsTheyAreWritten(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile(filepath.Join(sourceDir(), "..", "..", "docs", "security.md"))
	require.NoError(t, err)
	steps := anyBlock.FindAllStringSubmatch(string(page), -1)
	require.Greater(t, len(steps), 7)
	dir := t.TempDir()
	here := strings.NewReplacer("/var/lib/nexocumula", dir, "0.0.0.0:8460", "0.0.0.0:0", "/etc/nexocumula/secrets", dir)

	central, service := service(t, dir, "central", here.Replace(steps[0][2]))
	_, port, err := net.SplitHostPort(strings.TrimPrefix(service.Base(), "https://"))
	require.NoError(t, err)
	eventually(t, "the code is printed", func() bool { return codes.MatchString(central.output.String()) })
	for line := range strings.Lines(steps[1][2]) { // what its start prints, but for what differs each time
		line = strings.TrimSpace(regexp.MustCompile(`….*|https://.*|B7:3F.*|ud7up.*`).ReplaceAllString(line, ""))
		assert.Contains(t, central.output.String(), line)
	}

	at := strings.NewReplacer("head-office:8460", "127.0.0.1:"+port)
	export, login, _ := strings.Cut(at.Replace(steps[2][2]), "\n")
	address := strings.TrimPrefix(export, "export NEXOCUMULA_AT=")
	require.Equal(t, "https://127.0.0.1:"+port, address)
	warden := newPerson(t, address)
	said := warden.typed(strings.Fields(login)[1:], "fingerprint", "yes", "ode", codeIn(t, central.output.String()),
		"assword", "four words of trout", "assword", "four words of trout")
	assert.Contains(t, said, "as warden (administrator)")

	require.NoError(t, os.Symlink(warden.program, filepath.Join(dir, "nexocumula")))
	inShell := func(lines, input string) string {
		cmd := exec.Command("sh", "-ec", lines)
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(input)
		cmd.Env = append(warden.command().Env, "PATH="+dir+":"+os.Getenv("PATH"))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", lines, out)
		return string(out)
	}
	assert.Len(t, codes.FindAllString(inShell(steps[3][2], ""), -1), 2, "a code each")
	info, err := os.Stat(filepath.Join(dir, "token"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.Contains(t, inShell("nexocumula now --token-file token", ""), "No series has a value yet.")

	code := codeIn(t, inShell("nexocumula gateway add long-mere", ""))
	gateway := fmt.Sprintf("data: %s/long-mere\nlisten: 127.0.0.1:0\n", dir) + at.Replace(steps[4][2])
	require.NoError(t, os.WriteFile(filepath.Join(dir, "gateway.yaml"), []byte(gateway), 0o600))
	inShell("NEXOCUMULA_TRUST="+shown(t, address)+" "+steps[5][2], code+"\n")
	start(t, warden.program, "run", "--config", filepath.Join(dir, "gateway.yaml"))
	eventually(t, "the gateway is there", func() bool {
		return strings.Contains(inShell("nexocumula gateway list -o json", ""), `"long-mere"`)
	})
	assert.Contains(t, inShell("nexocumula audit list", ""), "ranger")
	assert.Contains(t, inShell("nexocumula audit verify", ""), "entries")

	// The provider's part belongs to the same configuration.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "provider"), []byte("kelp forest"), 0o600))
	file := filepath.Join(dir, "with-provider.yaml")
	require.NoError(t, os.WriteFile(file, []byte(here.Replace(steps[0][2]+steps[6][2])), 0o600))
	assert.Contains(t, inShell("nexocumula check "+file, ""), "good: ")
}
