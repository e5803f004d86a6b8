package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/fieldwork"
)

func discoveredCommand() *cli.Command {
	return &cli.Command{
		Name: "discovered", Usage: "List series found by discover, with rules that would name them", ArgsUsage: "[SELECTOR]",
		Flags: []cli.Flag{
			atFlag, outputFlag, zoneFlag,
			appendToFlag,
			writeFlag,
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			answer, err := ask(cmd).Discovered(ctx, cmd.Args().First())
			if err != nil {
				return err
			}
			if file := cmd.String("append-to"); file != "" {
				return appendDiscovered(cmd, file, answer)
			}
			g := grid{
				columns: []column{
					{name: "series"}, {name: "kind"}, {name: "unit"}, {name: "unit_from"}, {name: "last", right: true},
					{name: "first_seen"}, {name: "last_seen"},
				},
				empty: "No series waits to be named.",
			}
			if len(answer.Rules) == 0 {
				g.empty = "No rule of this gateway finds series; one with discover: {} would."
			}
			for _, s := range answer.Series {
				g.rows = append(g.rows, []cell{
					plain(s.Path), plain(s.Kind), plain(s.Unit), plain(s.UnitFrom), stateOr(s.State, s.Value),
					moment(s.FirstSeen), moment(s.LastSeen),
				})
			}
			for _, r := range answer.Rules {
				note := fmt.Sprintf("%s: %d of at most %d are found.", r.Select, r.Found, r.Most)
				if r.Found >= r.Most {
					note += " Readings of further ones are rejected."
				}
				g.notes = append(g.notes, note)
			}
			if answer.Lines != "" {
				g.notes = append(g.notes,
					"Rules that name them as they are; correct what is guessed wrongly:\n"+answer.Lines)
			}
			return show(cmd, answer, g)
		},
	}
}

func appendDiscovered(cmd *cli.Command, file string, found client.Discovered) error {
	if found.Lines == "" {
		return fmt.Errorf("no series waits to be named, so there is nothing to append")
	}
	done, err := fieldwork.Append(file, client.Append{Rules: found.Lines, Write: cmd.Bool("write")}, nil, "")
	if err != nil {
		return wrongUsage(err)
	}
	tellAppended(cmd, file, done)
	return nil
}
