package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"
)

func nowCommand() *cli.Command {
	return &cli.Command{
		Name: "now", Usage: "latest values", ArgsUsage: "[SELECTOR]",
		Flags: []cli.Flag{atFlag, outputFlag, labelFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			answer, err := ask(cmd).Now(ctx, selectorArg(cmd), cmd.StringSlice("label")...)
			if err != nil {
				return err
			}
			g := grid{
				columns: []column{{name: "series"}, {name: "value", right: true}, {name: "unit"}, {name: "age", right: true}, {name: "fresh"}, {name: "time"}},
				empty:   "No series has a value yet.",
			}
			for _, v := range answer.Values {
				g.rows = append(g.rows, []cell{
					plain(v.Path), stateOr(v.State, v.Value), plain(v.Unit), {fmt.Sprint(v.AgeMS), age(time.Duration(v.AgeMS) * time.Millisecond)},
					yesNo(v.Fresh, "fresh", "STALE"), moment(v.Time),
				})
			}
			return show(cmd, answer, g)
		},
	}
}
