package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/config/shape"
	texts "nexocumula/internal/plain"
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
	root := rootCommand(args, version, out, errOut)
	err := root.Run(ctx, args)
	if err == nil {
		return 0
	}
	fmt.Fprintf(root.ErrWriter, "nexocumula: %v\n", err)
	if _, unknown := errors.AsType[*tls.CertificateVerificationError](err); unknown {
		fmt.Fprintln(errOut, "Compare its fingerprint once with nexocumula login, or say whom to trust with --trust.")
	}
	return exitCode(err)
}

func rootCommand(args []string, version string, out, errOut io.Writer) *cli.Command {
	root := &cli.Command{
		Name:  "nexocumula",
		Usage: "Collect field readings, keep them through outages, roll them up and query windows",
		Description: "A gateway collects readings over MQTT and Modbus, keeps every reading on disk, averages readings into summaries\n" +
			"and replicates the summaries to a central. Start with: nexocumula demo\n\n" +
			"Exit codes: 0 done, 1 failed, 2 wrong command line or configuration, 3 service not reached, 4 service refused.",
		Writer: texts.Terminal(out), ErrWriter: texts.Terminal(errOut),
		Commands: []*cli.Command{
			runCommand(version), checkCommand(), planCommand(), watchCommand(), probeCommand(), discoveredCommand(), tryCommand(), reloadCommand(), keysCommand(), passwordCommand(), demoCommand(args[0],
				version), simulateCommand(),
			nowCommand(), seriesCommand(), windowsCommand(), readingsCommand(), momentCommand(), excursionsCommand(), rejectsCommand(), replayCommand(), importCommand(), notesCommand(), boardsCommand(), sourcesCommand(), readCommand(), uplinksCommand(),
			loginCommand(), logoutCommand(), userCommand(), tokenCommand(), enrolCommand(), joinCommand(), auditCommand(), recoverCommand(), certificateCommand(), versionCommand(version),
		},
		Flags:                     []cli.Flag{trustFlag, tokenFlag},
		Suggest:                   true,
		DisableSliceFlagSeparator: true,                                          // formulas have commas in them
		ExitErrHandler:            func(context.Context, *cli.Command, error) {}, // reported below
		OnUsageError: func(_ context.Context, _ *cli.Command, err error, _ bool) error {
			return usage("%v",
				err)
		},
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
		for _, below := range c.Commands {
			below.OnUsageError = root.OnUsageError
		}
	}
	explain(root)
	return root
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

var labelFlag = &cli.StringSliceFlag{Name: "label", Usage: "label of series as key=value; repeatable, all must match"}

func selectorArg(cmd *cli.Command) string { return cmd.Args().First() }
