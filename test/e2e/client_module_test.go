package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// reader is a program of somebody else, in a module of its own, that asks a service.
const reader = `package main

import (
	"context"
	"fmt"
	"os"

	"nexocumula/client"
)

func main() {
	c := client.New(os.Args[1])
	health, err := c.Health(context.Background())
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	_, err = c.Windows(context.Background(), client.WindowsQuery{Select: []string{"nowhere/x/y"}, Last: "1h"})
	fmt.Println(health.Site, err)
}
`

// The client of the service can be used by programs of other modules.
func TestTheClientIsForOtherModules(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	sums, err := os.ReadFile(filepath.Join(root, "go.sum"))
	require.NoError(t, err)
	for name, text := range map[string]string{
		"go.mod":  "module pump.example\n\ngo 1.26\n\nrequire nexocumula v0.0.0\n\nreplace nexocumula => " + root + "\n",
		"go.sum":  string(sums),
		"main.go": reader,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	build := exec.Command("go", "build", "-mod=mod", "-o", "reader", ".")
	build.Dir, build.Env = dir, append(os.Environ(), "GOFLAGS=")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	_, gateway := service(t, dir, "gateway", "data: "+dir+"/data\nlisten: 127.0.0.1:0\ngateway: { site: long-mere }\n")
	out, err = exec.Command(filepath.Join(dir, "reader"), gateway.Base()).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), `long-mere no series matches "nowhere/x/y"`)
}
