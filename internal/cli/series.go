package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
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
		Name: "series", Usage: "List series and their definitions",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List series", ArgsUsage: "[SELECTOR]",
				Flags: []cli.Flag{atFlag, outputFlag, zoneFlag, labelFlag}, Action: listSeries,
			},
			{
				Name: "history", Usage: "List the definitions that a series has had, with the time of each", ArgsUsage: "SERIES",
				Flags: []cli.Flag{atFlag, outputFlag, zoneFlag}, Action: seriesHistory,
			},
			{
				Name: "rename", Usage: "Give a series, or all of a station, another name, and keep the history", ArgsUsage: "PATH NEWPATH",
				Flags: []cli.Flag{atFlag, outputFlag}, Action: renameSeries,
			},
			discoveredCommand(),
		},
	}
}

func listSeries(ctx context.Context, cmd *cli.Command) error {
	answer, err := ask(cmd).Series(ctx, selectorArg(cmd), cmd.StringSlice("label")...)
	if err != nil {
		return err
	}
	g := grid{
		columns: []column{
			{name: "series"}, {name: "kind"}, {name: "unit"}, {name: "labels"}, {name: "every", right: true},
			{name: "fresh_for", right: true}, {name: "tiers"}, {name: "thinning"}, {name: "normal"},
			{name: "calibration"}, {name: "first_seen"}, {name: "last_seen"},
		},
		empty: "There are no series yet.",
	}
	for _, s := range answer.Series {
		g.rows = append(g.rows, []cell{
			plain(s.Path), plain(s.Kind), plain(s.Unit), plain(labels(s.Labels)), everyOf(s),
			plain(s.FreshFor), plain(strings.Join(s.Tiers, " ")), thinningText(s.Thinning),
			plain(normalText(s.Normal)), plain(s.Calibration), momentOr(s.FirstSeen, "never"),
			momentOr(s.LastSeen, "never"),
		})
	}
	return show(cmd, answer, g)
}

// everyOf returns how often a series is heard. What was learned, not stated, stands with a ~.
func everyOf(s client.Series) cell {
	if s.EveryLearned {
		return plain("~" + s.Every)
	}
	return plain(s.Every)
}

// thinningText is by what a series is thinned, and what it came to.
func thinningText(t *client.Thinning) cell {
	if t == nil {
		return plain("")
	}
	text := cmp.Or(t.Rule, "not any more")
	if t.Arrived > 0 {
		text += fmt.Sprintf(": %.3g %% kept, off by %s at most", 100*float64(t.Kept)/float64(t.Arrived),
			number(t.WorstError).people)
	}
	return forPeople(t.Rule, text)
}

func normalText(n client.Normal) string {
	var out []string
	for _, r := range []struct {
		name string
		ends []client.Number
	}{{"inner", n.Inner}, {"outer", n.Outer}} {
		if len(r.ends) == 2 {
			out = append(out, r.name+" "+number(r.ends[0]).script+".."+number(r.ends[1]).script)
		}
	}
	return strings.Join(out, ", ")
}

func seriesHistory(ctx context.Context, cmd *cli.Command) error {
	answer, err := ask(cmd).Versions(ctx, selectorArg(cmd))
	if err != nil {
		return err
	}
	g := grid{columns: []column{
		{name: "since"}, {name: "unit"}, {name: "every", right: true}, {name: "fresh_for", right: true},
		{name: "tiers"}, {name: "thinning"}, {name: "normal"}, {name: "calibration"},
	}}
	for _, v := range answer.Versions {
		g.rows = append(g.rows, []cell{
			momentOr(v.Since, "the beginning"), plain(v.Unit), plain(v.Every), plain(v.FreshFor),
			plain(strings.Join(v.Tiers, " ")), plain(v.Thinning), plain(normalText(v.Normal)), plain(v.Calibration),
		})
	}
	return show(cmd, answer, g)
}
