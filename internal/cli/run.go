package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"runtime/debug"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/config"
	"nexocumula/internal/gateway"
	"nexocumula/internal/service"
)

var configFlag = &cli.StringFlag{Name: "config", Aliases: []string{"c"}, Usage: "the service's YAML file", Required: true}

// sparing is how much the heap may grow, in percent, before it is collected: a service
// lives on small boards, and what it allocates is short-lived.
const sparing = 50

func spareMemory() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(sparing)
	}
}

func runCommand(version string) *cli.Command {
	return &cli.Command{
		Name:  "run",
		Usage: "run the gateway, the central, or both, that a configuration describes",
		Flags: []cli.Flag{configFlag, verboseFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			settings, err := config.Load(cmd.String("config"), gateway.Kinds)
			if err != nil {
				return err
			}
			spareMemory()
			log := logger(cmd)
			s, err := service.Open(settings, version, log)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.Root().Writer, "nexocumula %s is running; console and HTTP interface at %s\n", version, s.Address)
			return s.Run(ctx)
		},
	}
}

var verboseFlag = &cli.BoolFlag{Name: "verbose", Aliases: []string{"v"}, Usage: "log more"}

func logger(cmd *cli.Command) *slog.Logger {
	return newLogger(cmd.Root().ErrWriter, cmd.Bool("verbose"))
}

func newLogger(to io.Writer, verbose bool) *slog.Logger {
	level := slog.LevelInfo
	if verbose {
		level = slog.LevelDebug
	}
	return slog.New(slog.NewTextHandler(to, &slog.HandlerOptions{Level: level}))
}
