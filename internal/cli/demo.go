package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/core/span"
	"nexocumula/internal/demo"
	"nexocumula/internal/event"
	"nexocumula/internal/sim"
)

// demoCommand needs to know how the program was called, for its hints.
func demoCommand(program, version string) *cli.Command {
	dir := &cli.StringFlag{Name: "dir", Value: "nexocumula-demo", Usage: "folder to work in"}
	return &cli.Command{
		Name:  "demo",
		Usage: "Run a made-up company on this machine: a central, three gateways and their simulated stations",
		Flags: []cli.Flag{
			dir,
			&cli.StringFlag{
				Name:  "console",
				Value: "127.0.0.1:8460",
				Usage: "host:port of the central's console; a free port if it is in use",
			},
			&cli.IntFlag{Name: "history-days", Value: 7, Usage: "days of history to write at the start"},
			&cli.Uint64Flag{Name: "seed", Value: 1, Usage: "seed of the weather"},
			&cli.TimestampFlag{Name: "world-time", Usage: "time in the simulated company at the start, such as 2026-05-13T12:00:00Z; default: the present",
				Config: cli.TimestampConfig{Layouts: []string{time.RFC3339}}},
			&cli.BoolFlag{Name: "tour", Usage: "play the whole story, report and end"},
		},
		Commands: []*cli.Command{{
			Name:  "outage",
			Usage: "Cut the running demo's central off from its gateways for a while",
			Flags: []cli.Flag{
				dir, &cli.StringFlag{Name: "for", Value: "30s", Usage: "how long it takes"},
				&cli.StringFlag{Name: "from-site", Usage: "only the link of this site, such as stony-beck"},
			},
			Action: func(ctx context.Context, cmd *cli.Command) error {
				length, err := span.Parse(cmd.String("for"))
				if err != nil {
					return usage("--for: %v", err)
				}
				if err := demo.Outage(ctx, cmd.String("dir"), cmd.String("from-site"), length); err != nil {
					return err
				}
				fmt.Fprintf(cmd.Root().Writer,
					"The central is cut off%s for %s. Watch the backlog grow on the Links page of a gateway.\n",
					strings.TrimSuffix(" from "+cmd.String("from-site"), " from "), span.Format(length))
				return nil
			},
		}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return runDemo(ctx, cmd, program, version)
		},
	}
}

const maxDays = 366

func runDemo(ctx context.Context, cmd *cli.Command, program, version string) error {
	out := cmd.Root().Writer
	o := demo.Options{
		Dir: cmd.String("dir"), Console: cmd.String("console"), Days: cmd.Int("history-days"), Seed: cmd.Uint64("seed"), Version: version, Starts: cmd.Timestamp("world-time"),
		Log: event.NewLog(cmd.Root().ErrWriter, event.Options{Level: slog.LevelWarn}),
	}
	if cmd.Bool("verbose") {
		o.Log = logger(cmd)
	}
	if o.Days < 0 || o.Days > maxDays {
		return usage("--history-days %d: use 0 to %d", o.Days, maxDays)
	}
	spareMemory()
	if cmd.Bool("tour") {
		return demo.Tour(ctx, o, out)
	}
	begun := time.Now()
	fmt.Fprintf(out,
		"Starting Fellwater Trout: a central, three gateways and their stations, with %d days of history …\n", o.Days)
	w, err := demo.Start(ctx, o)
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "Ready after %.1f s; %d readings of history went through the pipelines.\n\n",
		time.Since(begun).Seconds(), w.History)
	printHints(out, program, w, o)
	controlled := make(chan error, 1)
	controlCtx, stopControl := context.WithCancel(ctx)
	defer stopControl()
	go func() { controlled <- w.Serve(controlCtx, o.Dir, o.Log) }()
	failed := make(chan error, 1)
	go func() { failed <- w.Wait() }()
	select {
	case <-ctx.Done():
	case err = <-failed:
	case err = <-controlled:
	}
	fmt.Fprintln(out, "\nStopping.")
	if stopErr := w.Stop(); err == nil {
		err = stopErr
	}
	return err
}

func printHints(out io.Writer, program string, w *demo.World, o demo.Options) {
	fmt.Fprintf(out, "  Console of the central    %s\n", w.Central.Address)
	for _, site := range sim.Sites {
		fmt.Fprintf(out, "  Console of %-12s   %s\n", site, w.Gateways[site].Address)
	}
	at := ""
	if w.Central.Address != defaultAddress {
		at = " --at " + w.Central.Address
	}
	folder := ""
	if o.Dir != "nexocumula-demo" {
		folder = " --dir " + o.Dir
	}
	fmt.Fprintf(out, `
Five things to try (in another terminal, from this folder):
  1. What is it like out there?       %[6]s now 'long-mere/#'%[1]s
  2. Did oxygen fall last night?      %[6]s windows stony-beck/raceway-4/oxygen --last 3d --width 1h%[1]s
  3. Cut the central off, and watch   %[6]s demo outage --for 45s%[2]s
     the backlog go and come back     %[6]s uplink list --at %[3]s
  4. What was refused, and why?       %[6]s reject list --at %[4]s
  5. How is it configured?            less %[5]s/stony-beck.yaml

Ctrl-C ends it.
`, at, folder, w.Gateways["long-mere"].Address, w.Gateways["stony-beck"].Address, o.Dir, program)
}
