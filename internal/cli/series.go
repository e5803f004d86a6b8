package cli

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
)

// labels are key=value pairs in order of their keys.
func labels(pairs map[string]string) string {
	var all []string
	for _, key := range slices.Sorted(maps.Keys(pairs)) {
		all = append(all, key+"="+pairs[key])
	}
	return strings.Join(all, ",")
}

func seriesCommand() *cli.Command {
	return &cli.Command{
		Name: "series", Usage: "the series there are", ArgsUsage: "[SELECTOR]",
		Flags: []cli.Flag{atFlag, outputFlag, labelFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			answer, err := ask(cmd).Series(ctx, selectorArg(cmd), cmd.StringSlice("label")...)
			if err != nil {
				return err
			}
			g := grid{
				columns: []column{{name: "series"}, {name: "kind"}, {name: "unit"}, {name: "labels"}, {name: "fresh_for", right: true}, {name: "first_seen"}, {name: "last_seen"}},
				empty:   "There are no series yet.",
			}
			for _, s := range answer.Series {
				g.rows = append(g.rows, []cell{plain(s.Path), plain(s.Kind), plain(s.Unit), plain(labels(s.Labels)), plain(s.FreshFor), momentOr(s.FirstSeen, "never"), momentOr(s.LastSeen, "never")})
			}
			return show(cmd, answer, g)
		},
	}
}
