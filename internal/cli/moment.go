package cli

import (
	"context"
	"time"

	"github.com/urfave/cli/v3"
)

func momentCommand() *cli.Command {
	return &cli.Command{
		Name: "moment", Usage: "values as they were at a moment", ArgsUsage: "SELECTOR TIME",
		Description: "nexocumula moment stony-beck/+/oxygen 2026-03-01T02:30:00Z",
		Flags: []cli.Flag{
			atFlag, outputFlag,
			&cli.StringFlag{Name: "how", Value: "before", Usage: "which reading counts: before (the last at or before TIME), at (of that very time) or nearest"},
			&cli.StringFlag{Name: "within", Usage: "how far away it may be, such as 10m"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("name the series and the time: nexocumula moment SELECTOR TIME, such as stony-beck/+/oxygen 2026-03-01T02:30:00Z")
			}
			when, err := time.Parse(time.RFC3339Nano, cmd.Args().Get(1))
			if err != nil {
				return usage("%q is not an RFC 3339 time such as 2026-03-01T02:30:00Z", cmd.Args().Get(1))
			}
			answer, err := ask(cmd).Moment(ctx, selectorArg(cmd), when, cmd.String("how"), cmd.String("within"))
			if err != nil {
				return err
			}
			g := grid{columns: []column{{name: "series"}, {name: "value", right: true}, {name: "unit"}, {name: "time"}, {name: "from"}, {name: "sure"}}}
			for _, v := range answer.Values {
				g.rows = append(g.rows, []cell{plain(v.Path), number(v.Value), plain(v.Unit), moment(v.Time), plain(v.Tier), yesNo(v.Sure, "sure", "there may be a closer one")})
			}
			return show(cmd, answer, g)
		},
	}
}
