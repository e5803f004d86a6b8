// Package e2e runs the product as its users do, as processes, together with parts
// that nobody here wrote: mosquitto's publisher and broker, and a pymodbus device.
package e2e

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// patience is how long a test waits for something that ought to happen at once; it
// is long because it may share a slow machine.
const patience = 5 * time.Minute // of machines that are slow or busy

// binary is the product, built once.
var binary = sync.OnceValues(func() (string, error) {
	if path := os.Getenv("NEXOCUMULA_BINARY"); path != "" {
		return path, nil
	}
	path := filepath.Join(os.TempDir(), fmt.Sprintf("nexocumula-under-test-%d", os.Getpid()))
	build := exec.Command("go", "build", "-o", path, "./cmd/nexocumula")
	build.Dir = filepath.Join(sourceDir(), "..", "..")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("building the product: %w\n%s", err, out)
	}
	return path, nil
})

// sourceDir returns the folder of these tests, in which they are run.
func sourceDir() string {
	dir, err := os.Getwd()
	if err != nil {
		panic(err)
	}
	return dir
}

func need(t *testing.T, program string) string {
	t.Helper()
	for _, dir := range []string{"", "/usr/sbin/", "/usr/bin/"} {
		if path, err := exec.LookPath(dir + program); err == nil {
			return path
		}
	}
	require.Failf(t, "program missing", "%s is needed; make test installs it", program)
	return ""
}

// freePort returns a port that nobody has: none of those that connections get from the system, which one
// could have before the port is used, and none that another test has got.
func freePort(t *testing.T) string {
	t.Helper()
	for range 1000 {
		port := strconv.Itoa(10_000 + rand.IntN(22_000))
		if _, given := ports.LoadOrStore(port, true); given {
			continue
		}
		if l, err := net.Listen("tcp", "127.0.0.1:"+port); err == nil {
			require.NoError(t, l.Close())
			return port
		}
	}
	require.Fail(t, "no port is free")
	return ""
}

var ports sync.Map

// process is a running program; its output is shown when the test fails.
type process struct {
	cmd    *exec.Cmd
	output *lockedBuffer
	ended  chan struct{}
}

type lockedBuffer struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.Write(p)
}

func (b *lockedBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.text.String()
}

func start(t *testing.T, name string, args ...string) *process {
	t.Helper()
	p := &process{cmd: exec.Command(name, args...), output: &lockedBuffer{}, ended: make(chan struct{})}
	p.cmd.Stdout, p.cmd.Stderr = p.output, p.output
	require.NoError(t, p.cmd.Start())
	go func() {
		_ = p.cmd.Wait()
		close(p.ended)
	}()
	t.Cleanup(func() {
		p.kill()
		if t.Failed() {
			t.Logf("output of %s %s:\n%s", name, strings.Join(args, " "), p.output)
		}
	})
	return p
}

// kill ends the process with SIGKILL, which no program can prepare for.
func (p *process) kill() {
	_ = p.cmd.Process.Kill()
	<-p.ended
}

// interrupt ends it as Ctrl-C does and returns its exit code.
func (p *process) interrupt(t *testing.T) int {
	t.Helper()
	require.NoError(t, p.cmd.Process.Signal(os.Interrupt))
	select {
	case <-p.ended:
	case <-time.After(patience):
		require.Fail(t, "the process does not end", p.output.String())
	}
	return p.cmd.ProcessState.ExitCode()
}

// service starts the product with a configuration and waits until it answers, and devices are let in.
func service(t *testing.T, dir, name, config string) (*process, *client.Client) {
	t.Helper()
	path := filepath.Join(dir, name+".yaml")
	require.NoError(t, os.WriteFile(path, []byte(config), 0o600))
	program, err := binary()
	require.NoError(t, err)
	p := start(t, program, "run", "--config", path)
	var address string
	eventually(t, "the service starts", func() bool {
		select {
		case <-p.ended:
			require.Fail(t, "the service ended", p.output.String())
		default:
		}
		_, rest, ok := strings.Cut(p.output.String(), "interface at ")
		address, _, _ = strings.Cut(rest, "\n")
		return ok && strings.Contains(rest, "\n")
	})
	return p, client.New(address)
}

func eventually(t *testing.T, what string, happened func() bool) {
	t.Helper()
	for deadline := time.Now().Add(patience); !happened(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			require.Fail(t, "waited in vain until "+what)
		}
	}
}
