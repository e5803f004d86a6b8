package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	texts "nexocumula/internal/plain"
)

// conditionOf says whether a series is heard, and since when it is not.
func conditionOf(v client.Value) cell {
	if v.Fresh {
		return forPeople("true", "fresh")
	}
	return forPeople("false", strings.ToUpper(v.Condition)+" since "+v.Since.Format("2006-01-02 15:04Z"))
}

func nowCommand() *cli.Command {
	return &cli.Command{
		Name: "now", Usage: "List latest values", ArgsUsage: "[SELECTOR]",
		Flags: []cli.Flag{
			atFlag, outputFlag, zoneFlag, labelFlag,
			&cli.BoolFlag{
				Name: "follow", Aliases: []string{"f"}, Usage: "go on: a terminal is drawn anew, a pipe gets a line for each new value",
			},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Bool("follow") {
				return follow(ctx, cmd)
			}
			answer, err := ask(cmd).Now(ctx, selectorArg(cmd), cmd.StringSlice("label")...)
			if err != nil {
				return err
			}
			return show(cmd, answer, nowGrid(answer.Values))
		},
	}
}

func nowGrid(values []client.Value) grid {
	g := grid{
		columns: []column{
			{name: "series"}, {name: "value", right: true}, {name: "unit"}, {name: "age", right: true},
			{name: "fresh"}, {name: "standing"}, {name: "time"},
		},
		empty: "No series has a value yet.",
	}
	for _, v := range values {
		g.rows = append(g.rows, []cell{
			plain(v.Path), stateOr(v.State, v.Value), plain(v.Unit),
			forPeople(fmt.Sprint(v.AgeMS), age(time.Duration(v.AgeMS)*time.Millisecond)),
			conditionOf(v), plain(v.Standing), moment(v.Time),
		})
	}
	return g
}

// follow shows the latest values as they come, until it is ended or the service is.
func follow(ctx context.Context, cmd *cli.Command) error {
	if len(cmd.StringSlice("label")) > 0 {
		return usage("--follow goes without --label; name the series with a selector")
	}
	latest := map[string]client.Value{}
	head := true
	err := ask(cmd).Stream(ctx, selectorArg(cmd), func(now client.Now) error {
		var changed []client.Value
		for _, v := range now.Values {
			if before, known := latest[v.Path]; !known || !before.Time.Equal(v.Time) {
				changed = append(changed, v)
			}
			latest[v.Path] = v
		}
		switch form := cmd.String("output"); {
		case form == "json":
			enc := json.NewEncoder(cmd.Root().Writer)
			for _, v := range changed {
				if err := enc.Encode(v); err != nil {
					return err
				}
			}
			return nil
		case form == "csv":
			g := nowGrid(changed)
			g.headless, head = !head, false
			return g.csv(cmd.Root().Writer)
		case isTerminal(cmd.Root().Writer):
			all := slices.SortedFunc(maps.Values(latest), func(a, b client.Value) int { return strings.Compare(a.Path, b.Path) })
			fmt.Fprint(texts.Bare(cmd.Root().Writer), clearScreen)
			return show(cmd, nil, nowGrid(all))
		}
		for _, v := range changed {
			at := moment(v.Time)
			if err := (grid{rows: [][]cell{{at}}}).in(cmd); err != nil {
				return err
			}
			parts := []string{at.people, v.Path, stateOr(v.State, v.Value).people, v.Unit}
			if _, err := fmt.Fprintln(cmd.Root().Writer, strings.TrimSpace(strings.Join(parts, "  "))); err != nil {
				return err
			}
		}
		return nil
	})
	if ctx.Err() != nil {
		return nil // it was ended
	}
	return cmp.Or(err, fmt.Errorf("%s ended the stream", serviceAt(cmd)))
}
