package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/certs"
	"nexocumula/internal/config/shape"
)

// Exit codes.
const (
	exitFailed  = 1 // it did not work
	exitUsage   = 2 // the command line or the configuration is wrong
	exitNoReach = 3 // the service cannot be reached
	exitRefused = 4 // the service refused, and says what to change
)

const defaultAddress = "http://127.0.0.1:8460"

// Run runs the command line and returns the exit code.
func Run(ctx context.Context, args []string, version string, out, errOut io.Writer) int {
	root := &cli.Command{
		Name:  "nexocumula",
		Usage: "collect field readings, keep them through outages, roll them up, ask for windows",
		Description: "A gateway collects over MQTT and Modbus, keeps every reading on disk, averages readings into\n" +
			"summaries and replicates those to a central. Start with: nexocumula demo\n\n" +
			"Exit codes: 0 done, 1 failed, 2 wrong command line or configuration, 3 service not reached, 4 service refused.",
		Writer: out, ErrWriter: errOut,
		Commands: []*cli.Command{
			runCommand(version), checkCommand(), planCommand(), watchCommand(), probeCommand(), discoveredCommand(), tryCommand(), reloadCommand(), keysCommand(), passwordCommand(), demoCommand(args[0], version), simulateCommand(),
			nowCommand(), seriesCommand(), windowsCommand(), readingsCommand(), momentCommand(), rejectsCommand(), replayCommand(), importCommand(), sourcesCommand(), readCommand(), uplinksCommand(), versionCommand(version),
		},
		Flags:                     []cli.Flag{trustFlag},
		Suggest:                   true,
		DisableSliceFlagSeparator: true,                                          // formulas have commas in them
		ExitErrHandler:            func(context.Context, *cli.Command, error) {}, // reported below
		OnUsageError:              func(_ context.Context, _ *cli.Command, err error, _ bool) error { return usage("%v", err) },
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Present() {
				return usage("there is no command %q; see nexocumula --help", cmd.Args().First())
			}
			return cli.ShowRootCommandHelp(cmd)
		},
	}
	for _, c := range root.Commands {
		c.OnUsageError = root.OnUsageError
		c.DisableSliceFlagSeparator = true // formulas have commas in them
	}
	err := root.Run(ctx, args)
	if err == nil {
		return 0
	}
	fmt.Fprintf(errOut, "nexocumula: %v\n", err)
	return exitCode(err)
}

type usageError struct{ error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

func exitCode(err error) int {
	var wrong usageError
	var problems shape.Problems
	var refused *client.Error
	var network *net.OpError
	switch {
	case errors.As(err, &wrong), errors.As(err, &problems):
		return exitUsage
	case errors.As(err, &refused):
		return exitRefused
	case errors.As(err, &network):
		return exitNoReach
	}
	return exitFailed
}

// at is the service to ask.
var atFlag = &cli.StringFlag{
	Name: "at", Value: defaultAddress, Sources: cli.EnvVars("NEXOCUMULA_AT"),
	Usage: "the service to ask, http://host:port",
}

var labelFlag = &cli.StringSliceFlag{Name: "label", Usage: "only series with this key=value; all of them when given several times"}

// ask is the client of the service that a command line names. Whom it trusts was checked before.
func ask(cmd *cli.Command) *client.Client {
	if file := cmd.String(trustFlag.Name); file != "" {
		if trusted, err := certs.Open(certs.Files{CA: file}); err == nil {
			return client.Over(cmd.String("at"), trusted.HTTP(""))
		}
	}
	return client.New(cmd.String("at"))
}

// trustFlag goes with every command that asks a service.
var trustFlag = &cli.StringFlag{
	Name: "trust", Sources: cli.EnvVars("NEXOCUMULA_TRUST"), Usage: "PEM file of the authority that the service's certificate is from, or of that itself, for an https:// address",
	Validator: func(file string) error {
		_, err := certs.Open(certs.Files{CA: file})
		return err
	},
}

func selectorArg(cmd *cli.Command) string { return cmd.Args().First() }
