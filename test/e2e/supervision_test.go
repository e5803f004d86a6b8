package e2e

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const supervised = "data: %/data\nlisten: 127.0.0.1:0\ngateway:\n  site: stony-beck\n  sources: [{ name: own, mqtt_listener: { address: \"127.0.0.1:0\", messages: [{ topic: \"#\", series: a/b }] } }]\n"

// heard reads what a service tells systemd, until it says that.
func heard(t *testing.T, from *net.UnixConn, what string) {
	t.Helper()
	said := make([]byte, 1024)
	for {
		n, err := from.Read(said)
		require.NoError(t, err)
		if string(said[:n]) == what {
			return
		}
	}
}

func TestSystemdHearsThatTheServiceIsReadyLivesAndStops(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	program, err := binary()
	require.NoError(t, err)
	place := filepath.Join(dir, "notify")
	systemd, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: place, Net: "unixgram"})
	require.NoError(t, err)
	defer systemd.Close()
	file := filepath.Join(dir, "gateway.yaml")
	require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(supervised, "%", dir)), 0o600))
	cmd := exec.Command(program, "run", "--config", file)
	cmd.Env = append(os.Environ(), "NOTIFY_SOCKET="+place, "WATCHDOG_USEC=300000")
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	heard(t, systemd, "READY=1")
	for range 3 {
		heard(t, systemd, "WATCHDOG=1")
	}
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	heard(t, systemd, "STOPPING=1")
	require.NoError(t, cmd.Wait())
	assert.NoFileExists(t, filepath.Join(dir, "data", "run.txt"))
}

func TestACrashLeavesAReportThatTheNextStartTellsOf(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	config := strings.ReplaceAll(supervised, "%", dir)
	p, gateway := service(t, dir, "gateway", config)
	person := newPerson(t, gateway.Base())
	assert.Regexp(t, `^ok: stony-beck, version \S+, running for \S+, 0 series; 1 of 1 sources up, 0 readings on disk`, person.does("", "health"))

	require.NoError(t, p.cmd.Process.Signal(syscall.SIGABRT)) // what systemd's watchdog sends
	<-p.ended
	status, ok := p.cmd.ProcessState.Sys().(syscall.WaitStatus)
	require.True(t, ok)
	assert.True(t, status.Signaled(), "it is no exit code, of which 2 says that the configuration is wrong: %v", p.cmd.ProcessState)
	out, err := person.run("", "health")
	require.Error(t, err)
	assert.Contains(t, out, "connection refused")
	assert.Equal(t, 3, exitOf(t, err))

	p, _ = service(t, dir, "gateway", config)
	eventually(t, "it tells of the crash", func() bool { return strings.Contains(p.output.String(), "event=service.crashed") })
	reports, err := filepath.Glob(filepath.Join(dir, "data", "crash-*.txt"))
	require.NoError(t, err)
	require.Len(t, reports, 1)
	report, err := os.ReadFile(reports[0])
	require.NoError(t, err)
	assert.Contains(t, string(report), "event=service.started")
	assert.Contains(t, string(report), "SIGABRT: ")
	assert.Contains(t, string(report), "pipeline.(*Pipeline).Run", "all stacks are there")

	p.kill()
	p, _ = service(t, dir, "gateway", config)
	eventually(t, "it tells of the kill", func() bool { return strings.Contains(p.output.String(), "event=service.cut") })
}

func TestHealthEndsWithOneWhenThereIsATrouble(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	_, gateway := service(t, dir, "gateway", "data: "+dir+"/data\nlisten: 127.0.0.1:0\ngateway:\n  site: stony-beck\n  uplinks: [{ name: head-office, address: \"http://127.0.0.1:"+
		freePort(t)+"\" }]\n")
	person := newPerson(t, gateway.Base())
	eventually(t, "the uplink is tried", func() bool {
		out, err := person.run("", "health")
		return err != nil && strings.Contains(out, "\n  uplink head-office is down, about 0 summaries wait: ")
	})
	out, err := person.run("", "health", "-o", "json")
	require.Error(t, err)
	assert.Equal(t, 1, exitOf(t, err))
	assert.Contains(t, out, `"status": "trouble"`)
	assert.Contains(t, out, "stony-beck has a trouble")
}

func exitOf(t *testing.T, err error) int {
	t.Helper()
	ended, ok := err.(*exec.ExitError)
	require.True(t, ok, err)
	return ended.ExitCode()
}
