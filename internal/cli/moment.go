package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/core/window"
	texts "nexocumula/internal/plain"
)

func momentCommand() *cli.Command {
	return &cli.Command{
		Name: "moment", Usage: "Show values at a moment", ArgsUsage: "SELECTOR TIME",
		Description: "TIME is RFC 3339, or a date and a time by the clocks of --zone.",
		Flags: []cli.Flag{
			atFlag, outputFlag,
			&cli.StringFlag{
				Name:  "how",
				Value: "before",
				Usage: "reading that counts: before (the last at or before TIME), at (exactly at TIME) or nearest",
			},
			zoneFlag,
			&cli.StringFlag{Name: "within", Usage: "largest distance from TIME, such as 10m"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			zone, err := texts.Zone(cmd.String("zone"))
			if err != nil {
				return usage("--zone %v", err)
			}
			when, err := window.ParseTime(cmd.Args().Get(1), zone)
			if err != nil {
				return usage("%v", err)
			}
			answer, err := ask(cmd).Moment(ctx, selectorArg(cmd), when, cmd.String("how"), cmd.String("within"))
			if err != nil {
				return err
			}
			g := grid{columns: []column{
				{name: "series"}, {name: "value", right: true}, {name: "unit"}, {name: "time"}, {name: "from"},
				{name: "sure"},
			}}
			for _, v := range answer.Values {
				g.rows = append(g.rows, []cell{
					plain(v.Path), stateOr(v.State, v.Value), plain(v.Unit), moment(v.Time), plain(v.Tier),
					yesNo(v.Sure, "sure", "there may be a closer one"),
				})
			}
			for _, path := range answer.Unknown {
				g.notes = append(g.notes,
					path+": only summaries are kept here, and they do not tell whether there was a reading of that very time")
			}
			g.empty = strings.Join(g.notes, "\n")
			return show(cmd, answer, g)
		},
	}
}
