package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	texts "nexocumula/internal/plain"
)

func readingsCommand() *cli.Command {
	return &cli.Command{
		Name: "readings", Usage: "List the readings of a range", ArgsUsage: "SELECTOR",
		Description: "--limit is that of each series, from the first reading on.",
		Flags: slices.Concat([]cli.Flag{atFlag, tableFlag, labelFlag}, rangeFlags(), []cli.Flag{
			&cli.StringFlag{Name: "unit", Usage: "unit to convert to, such as K"},
			limitFlag(0),
		}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			q := client.ReadingsQuery{
				Select: selectorArg(cmd), Labels: cmd.StringSlice("label"), Last: cmd.String("last"), Range: cmd.String("range"), Zone: cmd.String("zone"),
				Unit: cmd.String("unit"), Most: cmd.Int("limit"),
			}
			if err := timeFlags(cmd, map[string]*time.Time{"from": &q.From, "to": &q.To}); err != nil {
				return err
			}
			if form := cmd.String("output"); form == "csv" || form == "arrow" {
				return ask(cmd).ReadingsAs(ctx, q, form, texts.Bare(cmd.Root().Writer)) // as it comes: there may be millions
			}
			answer, err := ask(cmd).Readings(ctx, q)
			if err != nil {
				return err
			}
			g := grid{
				columns: []column{{name: "series"}, {name: "time"}, {name: "value", right: true}, {name: "unit"}},
				empty:   "No readings in this range.",
			}
			for _, s := range answer.Series {
				first := len(g.rows)
				for _, r := range s.Readings {
					at := moment(r.Time)
					g.rows = append(g.rows,
						[]cell{plain(s.Path), at, stateOr(nameIn(s.States, r.Value), r.Value), plain(s.Unit)})
				}
				if t := s.Thinning; t != nil && t.Until != nil && t.Kept < t.Arrived &&
					(len(s.Readings) == 0 || s.Readings[0].Time.Before(*t.Until)) {
					g.notes = append(g.notes,
						fmt.Sprintf("Of %s not all readings from before %s were kept (%s); windows of its tiers are of all that arrived.",
							s.Path, t.Until.UTC().Format("2006-01-02 15:04:05Z"),
							cmp.Or(t.Rule, "it was thinned then")))
				}
				if len(s.States) == 0 {
					sameDecimals(g.rows[first:], 2)
				}
			}
			return show(cmd, answer, g)
		},
	}
}
