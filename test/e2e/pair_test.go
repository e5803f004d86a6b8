package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nexocumula/client"
)

// pair is a gateway that readings are pushed to, and its central.
type pair struct {
	t                        *testing.T
	dir                      string
	gatewayFile, centralFile string // their configurations
	gatewayRuns, centralRuns *process
	gateway, head            *client.Client
}

func newPair(t *testing.T) *pair {
	t.Helper()
	dir, port := t.TempDir(), freePort(t)
	for name, text := range map[string]string{"secret": "salmon run at dawn", "link": "a stone in the river 77"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	p := &pair{
		t: t, dir: dir, gatewayFile: fmt.Sprintf(copied, dir, "data", port),
		centralFile: fmt.Sprintf(copiedCentral, dir, "head-office", port),
	}
	p.startCentral()
	p.startGateway()
	return p
}

func (p *pair) startGateway() {
	p.gatewayRuns, p.gateway = service(p.t, p.dir, "gateway", p.gatewayFile)
}

func (p *pair) startCentral() { p.centralRuns, p.head = service(p.t, p.dir, "central", p.centralFile) }

// killGateway kills the gateway, and starts it again.
func (p *pair) killGateway() {
	p.gatewayRuns.kill()
	p.startGateway()
}

// restoreGateway loses what the gateway has, and puts a copy in its place.
func (p *pair) restoreGateway(by person) {
	p.gatewayRuns.kill()
	require.NoError(p.t, os.Rename(filepath.Join(p.dir, "data"), filepath.Join(p.dir, "lost")))
	by.does("", "restore", filepath.Join(p.dir, "copies"), filepath.Join(p.dir, "data"))
	p.startGateway()
}

// copyGateway makes a copy that restoreGateway takes.
func (p *pair) copyGateway(by person) {
	by.does("", "backup", "--config", filepath.Join(p.dir, "gateway.yaml"), filepath.Join(p.dir, "copies"))
}
