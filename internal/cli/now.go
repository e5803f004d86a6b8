package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
)

// conditionOf says whether a series is heard, and since when it is not.
func conditionOf(v client.Value) cell {
	if v.Fresh {
		return cell{"true", "fresh"}
	}
	return cell{"false", strings.ToUpper(v.Condition) + " since " + v.Since.Format("2006-01-02 15:04Z")}
}

func nowCommand() *cli.Command {
	return &cli.Command{
		Name: "now", Usage: "List latest values", ArgsUsage: "[SELECTOR]",
		Flags: []cli.Flag{atFlag, outputFlag, labelFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			answer, err := ask(cmd).Now(ctx, selectorArg(cmd), cmd.StringSlice("label")...)
			if err != nil {
				return err
			}
			g := grid{
				columns: []column{
					{name: "series"}, {name: "value", right: true}, {name: "unit"}, {name: "age", right: true},
					{name: "fresh"}, {name: "standing"}, {name: "time"},
				},
				empty: "No series has a value yet.",
			}
			for _, v := range answer.Values {
				g.rows = append(g.rows, []cell{
					plain(v.Path), stateOr(v.State, v.Value), plain(v.Unit), {fmt.Sprint(v.AgeMS), age(time.Duration(v.AgeMS) * time.Millisecond)},
					conditionOf(v), plain(v.Standing), moment(v.Time),
				})
			}
			return show(cmd, answer, g)
		},
	}
}
