// Command nexocumula is gateway, central, simulator and command-line client.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"
	_ "time/tzdata" // zones, on machines that have none

	"nexocumula/internal/cli"
)

// version is set by the build.
var version = "development"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, os.Args, version, os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}
