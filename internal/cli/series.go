package cli

import (
	"context"

	"github.com/urfave/cli/v3"
)

func seriesCommand() *cli.Command {
	return &cli.Command{
		Name: "series", Usage: "the series there are", ArgsUsage: "[SELECTOR]",
		Flags: []cli.Flag{atFlag, outputFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			answer, err := ask(cmd).Series(ctx, selectorArg(cmd))
			if err != nil {
				return err
			}
			g := grid{
				columns: []column{{name: "series"}, {name: "kind"}, {name: "unit"}, {name: "fresh_for", right: true}, {name: "first_seen"}, {name: "last_seen"}},
				empty:   "There are no series yet.",
			}
			for _, s := range answer.Series {
				g.rows = append(g.rows, []cell{plain(s.Path), plain(s.Kind), plain(s.Unit), plain(s.FreshFor), momentOr(s.FirstSeen, "never"), momentOr(s.LastSeen, "never")})
			}
			return show(cmd, answer, g)
		},
	}
}
