package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
)

func removeCommand() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Remove readings and summaries of a time, for good", ArgsUsage: "SELECTOR",
		Flags: []cli.Flag{
			atFlag, outputFlag, fromFlag, toFlag, zoneFlag,
			&cli.StringFlag{Name: "reason", Usage: "why, for those who find the gap"},
			&cli.BoolFlag{Name: "dry-run", Usage: "only count what would be removed"},
		},
		Description: "At a gateway it is removed there and at its centrals; at a central, only there. It is in the audit, and " +
			"a gap of cause removed. What arrives of that time later is not taken in.",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 1 {
				return usage("name the series: nexocumula remove SELECTOR --from TIME --to TIME --reason TEXT")
			}
			what := client.NewRemoval{Select: cmd.Args().First(), Reason: cmd.String("reason"), DryRun: cmd.Bool("dry-run")}
			if err := timeFlags(cmd, map[string]*time.Time{"from": &what.From, "to": &what.To}); err != nil {
				return err
			}
			switch {
			case what.From.IsZero() || what.To.IsZero():
				return usage("say from when to when: --from TIME --to TIME")
			case what.Reason == "" && what.DryRun:
				what.Reason = "counted only"
			case what.Reason == "":
				return usage("say why: --reason TEXT")
			}
			done, err := ask(cmd).Remove(ctx, what)
			if err != nil {
				return err
			}
			return show(cmd, done, removedGrid(done))
		},
	}
}

func removedGrid(done client.Removal) grid {
	g := grid{columns: []column{{name: "series"}, {name: "readings", right: true}, {name: "summaries", right: true}}}
	for _, s := range done.Series {
		g.rows = append(g.rows, []cell{plain(s.Path), count(uint64(s.Readings)), count(uint64(s.Summaries))})
	}
	span := fmt.Sprintf("from %s to %s", moment(done.From).people, moment(done.To).people)
	if done.DryRun {
		g.notes = append(g.notes, "Nothing was removed: this is what would be, "+span+".")
	} else {
		g.notes = append(g.notes, fmt.Sprintf("%d readings and %d summaries were removed %s.", done.Readings, done.Summaries, span))
	}
	return g
}
