package cli

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"

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

// Run runs the command line and returns the exit code.
func Run(ctx context.Context, args []string, version string, out, errOut io.Writer) int {
	root := rootCommand(args, version, out, errOut)
	err := root.Run(ctx, args)
	if err == nil {
		return 0
	}
	if wantsJSON(args) {
		tellJSON(root.ErrWriter, err)
	} else {
		tell(root.ErrWriter, err)
	}
	return exitCode(err)
}

func tell(to io.Writer, err error) {
	fmt.Fprintf(to, "nexocumula: %v\n", err)
	if wrong, ok := errors.AsType[usageError](err); ok && wrong.of != nil {
		fmt.Fprintf(to, "Usage: %s\n", usageLine(wrong.of))
		if name := below(wrong.of); name != "" {
			fmt.Fprintf(to, "Help:  nexocumula help %s\n", name)
		}
	}
	if _, unknown := errors.AsType[*tls.CertificateVerificationError](err); unknown {
		fmt.Fprintln(to, "Compare its fingerprint once with nexocumula login, or say whom to trust with --trust.")
	}
}

// wantsJSON reports whether a command line, which may be wrong, asks for JSON.
func wantsJSON(args []string) bool {
	for i, arg := range args {
		name, value, ok := strings.Cut(arg, "=")
		if !ok && i+1 < len(args) {
			value = args[i+1]
		}
		if slices.Contains([]string{"-o", "--output", "-output"}, name) && value == "json" {
			return true
		}
	}
	return false
}

// failure is an error as scripts read it.
type failure struct {
	Error failed `json:"error"`
}

type failed struct {
	Code    string   `json:"code"`
	Message string   `json:"message"`
	Exit    int      `json:"exit"`
	Details []string `json:"details,omitempty"`
}

func tellJSON(to io.Writer, err error) {
	out := failed{
		Code:    map[int]string{exitFailed: "failed", exitUsage: "usage", exitNoReach: "unreached"}[exitCode(err)],
		Message: err.Error(),
		Exit:    exitCode(err),
	}
	if refused, ok := errors.AsType[*client.Error](err); ok {
		out.Code = refused.Code
	}
	if problems, ok := errors.AsType[shape.Problems](err); ok {
		out.Code = "configuration"
		for _, p := range problems {
			out.Details = append(out.Details, p.Error())
		}
	}
	enc := json.NewEncoder(to)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(failure{out}) // there is nobody to tell
}

func rootCommand(args []string, version string, out, errOut io.Writer) *cli.Command {
	root := &cli.Command{
		Name:    "nexocumula",
		Version: version,
		Usage:   "Collect field readings, keep them through outages, roll them up and query windows",
		Description: "A gateway collects readings over MQTT and Modbus, keeps every reading on disk, averages readings into summaries\n" +
			"and replicates the summaries to a central. Start with: nexocumula demo\n\n" +
			"Exit codes: 0 done, 1 failed, 2 wrong command line or configuration, 3 service not reached, 4 service refused.",
		Writer: texts.Terminal(out), ErrWriter: texts.Terminal(errOut),
		Commands: []*cli.Command{
			demoCommand(args[0], version), checkCommand(), planCommand(), runCommand(version), reloadCommand(), keyCommand(),
			simulateCommand(),
			healthCommand(), verifyCommand(), backupCommand(), restoreCommand(), nowCommand(), windowsCommand(), readingsCommand(), momentCommand(), excursionsCommand(), gapsCommand(), removeCommand(), fetchCommand(), requestCommand(), reconcileCommand(), seriesCommand(),
			noteCommand(), boardCommand(),
			watchCommand(), probeCommand(), tryCommand(), sourceCommand(), rejectCommand(),
			uplinkCommand(), gatewayCommand(), joinCommand(),
			loginCommand(), logoutCommand(), profileCommand(), userCommand(), tokenCommand(), auditCommand(),
			passwordCommand(), certificateCommand(), recoverCommand(),
			importCommand(), docsCommand(), manCommand(), helpCommand(), versionCommand(version),
		},
		Flags:                           []cli.Flag{trustFlag, tokenFlag, quietFlag, verboseFlag},
		ExitErrHandler:                  func(context.Context, *cli.Command, error) {}, // Run tells of it
		EnableShellCompletion:           true,
		ConfigureShellCompletionCommand: completionCommand,
		ShellComplete:                   complete,
	}
	govern(root)
	for _, c := range root.Commands {
		exemplify(c, c.Name)
	}
	groupCommands(root)
	return root
}

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
