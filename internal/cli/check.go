package cli

import (
	"context"
	"fmt"
	"strings"
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
			outputFlag, credentialsFlag(),
			&cli.BoolFlag{
				Name: "live", Usage: "connect to each broker, device and uplink as well, and read each series once",
			},
			&cli.StringFlag{Name: "wait", Value: "10s", Usage: "with --live, time to wait for messages and answers"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			var problems shape.Problems
			var good []checkedFile
			for _, path := range cmd.Args().Slice() {
				settings, err := config.Load(path, kinds.All)
				if found, ok := err.(shape.Problems); ok {
					problems = append(problems, found...)
					continue
				} else if err != nil {
					return err
				}
				one := checkedFile{File: path, Is: describe(settings), Advice: []string{}}
				for _, a := range settings.Advice {
					one.Advice = append(one.Advice, fmt.Sprint(a))
				}
				good = append(good, one)
			}
			if len(problems) > 0 {
				return fmt.Errorf("%d problem(s) found\n%w", len(problems), problems)
			}
			if cmd.Bool("live") {
				return checkLive(ctx, cmd)
			}
			return tellChecked(cmd, good)
		},
	}
}

// checkedFile is a configuration without mistakes.
type checkedFile struct {
	File   string   `json:"file"`
	Is     string   `json:"is"`
	Advice []string `json:"advice"`
}

func tellChecked(cmd *cli.Command, good []checkedFile) error {
	if cmd.String("output") == "table" {
		for _, one := range good {
			fmt.Fprintf(cmd.Root().Writer, "%s: good: %s\n", one.File, one.Is)
			for _, a := range one.Advice {
				fmt.Fprintf(cmd.Root().Writer, "%s (no mistake, but know it)\n", a)
			}
		}
		return nil
	}
	g := grid{columns: []column{{name: "file"}, {name: "is"}, {name: "advice"}}}
	for _, one := range good {
		g.rows = append(g.rows, []cell{plain(one.File), plain(one.Is), plain(strings.Join(one.Advice, "; "))})
	}
	return show(cmd, good, g)
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
