package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/config"
	"nexocumula/internal/event"
	"nexocumula/internal/kinds"
	"nexocumula/internal/service"
	"nexocumula/internal/supervision"
)

// configFlag returns a new one for each command, as a command asks whether it was given.
func configFlag() *cli.StringFlag {
	return &cli.StringFlag{
		Name: "config", Aliases: []string{"c"}, Usage: "configuration of the service", Required: true,
	}
}

// credentialsFlag is for shells, which systemd hands nothing over to.
func credentialsFlag() *cli.StringFlag {
	return &cli.StringFlag{
		Name: "credentials", Usage: "folder of the credentials that systemd hands over, such as /run/credentials/nexocumula@long-mere.service",
		Action: func(_ context.Context, _ *cli.Command, dir string) error {
			return os.Setenv("CREDENTIALS_DIRECTORY", dir)
		},
	}
}

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
		Usage: "Run the gateway, the central or both that a configuration describes",
		Flags: []cli.Flag{configFlag()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			settings, err := config.Load(cmd.String("config"), kinds.All)
			if err != nil {
				return err
			}
			spareMemory()
			report := supervision.NewReport(version)
			log := serviceLog(cmd, settings, report)
			defer event.Flush(log)
			s, err := service.Open(settings, version, log)
			if err != nil {
				return err
			}
			supervision.AbortOnCrash()
			if err := report.Begin(settings.Data, log); err != nil {
				event.ReportUnkept.To(log, "error", err)
			}
			defer onHangUp(ctx, s, log)()
			ended := make(chan error, 1)
			go func() { ended <- s.Run(ctx) }()
			end := func(err error) error { // not deferred: a crash ends otherwise
				report.End()
				return err
			}
			select {
			case err := <-ended:
				return end(err)
			case <-s.Opened(ctx):
			}
			if ctx.Err() != nil {
				return end(<-ended)
			}
			supervision.Ready(log)
			fmt.Fprintf(cmd.Root().Writer, "nexocumula %s is running; console and HTTP interface at %s\n", version,
				s.Address)
			if err := welcome(cmd, s); err != nil { // what is collected does not wait for it
				event.FirstCodeFailed.To(log, "error", err)
			}
			return end(<-ended)
		},
	}
}

// welcome says what whoever starts a service has to know to get in.
func welcome(cmd *cli.Command, s *service.Service) error {
	out := cmd.Root().Writer
	if shown := s.Fingerprint(); shown != "" {
		fmt.Fprintf(out, "Its certificate has the fingerprint (SHA-256) %s\n", shown)
	}
	if s.Unguarded() {
		fmt.Fprintln(out, "It is open: whoever reaches it may do everything (open: true).")
	}
	code, err := s.FirstCode()
	if err != nil || code == "" {
		return err
	}
	fmt.Fprintf(out,
		"There is no administrator yet. Open the console, or run nexocumula login --code, and give this code, for one use, good for 24 hours:\n\n  %s\n\n",
		code)
	return nil
}

// onHangUp reads the configuration again whenever SIGHUP comes, until it is called off.
func onHangUp(ctx context.Context, s *service.Service, log *slog.Logger) (off func()) {
	hangUp := make(chan os.Signal, 1)
	signal.Notify(hangUp, syscall.SIGHUP)
	done := make(chan struct{})
	go func() {
		for {
			select {
			case <-hangUp:
				if err := s.ReloadForSignal(ctx); err != nil {
					event.ReloadRefused.To(log, "error", err)
				}
			case <-done:
				return
			}
		}
	}()
	return func() { signal.Stop(hangUp); close(done) }
}

// logger is that of a command; a service has its own.
func logger(cmd *cli.Command) *slog.Logger {
	level := slog.LevelInfo
	if cmd.Bool(verboseFlag.Name) {
		level = slog.LevelDebug
	}
	return event.NewLog(cmd.Root().ErrWriter, event.Options{Level: level})
}

// serviceLog is as the configuration has it. Under systemd each line says its priority.
func serviceLog(cmd *cli.Command, settings config.Settings, report *supervision.Report) *slog.Logger {
	o := event.Options{JSON: settings.Log.JSON, Level: settings.Log.Level, Priority: os.Getenv("JOURNAL_STREAM") != ""}
	if cmd.Bool(verboseFlag.Name) {
		o.Level = slog.LevelDebug
	}
	return event.NewLog(io.MultiWriter(report, cmd.Root().ErrWriter), o)
}
