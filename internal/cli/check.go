package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/span"
	"nexocumula/internal/fieldwork"
	"nexocumula/internal/kinds"
)

func checkCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "Check configurations without starting anything",
		ArgsUsage: "FILE ...",
		Flags: []cli.Flag{
			outputFlag,
			&cli.BoolFlag{
				Name: "live", Usage: "connect to each broker, device and uplink as well, and read each series once",
			},
			&cli.StringFlag{Name: "wait", Value: "10s", Usage: "with --live, time to wait for messages and answers"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if !cmd.Args().Present() {
				return usage("name the files to check: nexocumula check FILE ...")
			}
			var problems shape.Problems
			for _, path := range cmd.Args().Slice() {
				settings, err := config.Load(path, kinds.All)
				if found, ok := err.(shape.Problems); ok {
					problems = append(problems, found...)
				} else if err != nil {
					return err
				} else if !cmd.Bool("live") {
					fmt.Fprintf(cmd.Root().Writer, "%s: good: %s\n", path, describe(settings))
					for _, a := range settings.Advice {
						fmt.Fprintf(cmd.Root().Writer, "%v (no mistake, but know it)\n", a)
					}
				}
			}
			if len(problems) == 0 && cmd.Bool("live") {
				return checkLive(ctx, cmd)
			}
			if len(problems) > 0 {
				return fmt.Errorf("%d problem(s) found\n%w", len(problems), problems)
			}
			return nil
		},
	}
}

func describe(s config.Settings) string {
	text := "HTTP at " + s.Listen
	if s.Gateway != nil {
		text = fmt.Sprintf("gateway of %s with %d source(s) and %d uplink(s), ", s.Gateway.Site,
			len(s.Gateway.Sources), len(s.Gateway.Uplinks)) + text
	}
	if s.Central != nil {
		text = fmt.Sprintf("central for %d gateway(s), ", len(s.Central.Accept)) + text
	}
	return text
}

// checkLive tries the files, which are good, with what they reach. It fails when something does
// not work.
func checkLive(ctx context.Context, cmd *cli.Command) error {
	wait, err := span.Parse(cmd.String("wait"))
	if err != nil || wait < time.Second || wait > 10*time.Minute {
		return usage("--wait: use 1s to 10m")
	}
	all, broken := []client.CheckedLive{}, 0
	for _, path := range cmd.Args().Slice() {
		settings, err := config.Load(path, kinds.All)
		if err != nil {
			return err
		}
		all = append(all, fieldwork.CheckLive(ctx, settings, wait)...)
	}
	g := grid{
		columns: []column{
			{name: "of"}, {name: "works"}, {name: "series"}, {name: "value", right: true}, {name: "unit"},
			{name: "says"},
		},
		empty: "There is nothing to reach.",
	}
	for _, one := range all {
		g.rows = append(g.rows, []cell{
			plain(one.Of), yesNo(one.Works, "works", "DOES NOT"), plain(one.Series), plain(one.Value), plain(one.Unit),
			plain(one.Says),
		})
		if !one.Works {
			broken++
		}
	}
	if err := show(cmd, all, g); err != nil {
		return err
	}
	if broken > 0 {
		return fmt.Errorf("%d of %d do not work", broken, len(all))
	}
	return nil
}
