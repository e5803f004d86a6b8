package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/gap"
	texts "nexocumula/internal/plain"
)

func gapsCommand() *cli.Command {
	return &cli.Command{
		Name: "gaps", Usage: "List what is missing of series and why, the longest first", ArgsUsage: "[SELECTOR]",
		Flags: []cli.Flag{
			atFlag, outputFlag, labelFlag,
			lastFlag("30d"),
			calendarFlag, fromFlag, toFlag,
			zoneFlag,
			&cli.StringFlag{Name: "cause", Usage: "only gaps of this cause, such as device_silent"},
			limitFlag(100),
		},
		Description: "A gap begins when the last reading before it speaks no more, and ends with the next. The share of each " +
			"cause is of the time of all gaps within the range, also of those beyond --limit. nexocumula docs gaps says how causes are found.",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			q := client.GapsQuery{
				Select: selectorArg(cmd), Labels: cmd.StringSlice("label"), Last: cmd.String("last"), Range: cmd.String("range"),
				Zone: cmd.String("zone"), Cause: cmd.String("cause"), Limit: cmd.Int("limit"),
			}
			if err := timeFlags(cmd, map[string]*time.Time{"from": &q.From, "to": &q.To}); err != nil {
				return err
			}
			answer, err := ask(cmd).Gaps(ctx, q)
			if err != nil {
				return err
			}
			zone, err := texts.Zone(cmd.String("zone"))
			if err != nil {
				return usage("--zone %v", err)
			}
			return show(cmd, answer, gapsGrid(answer, zone))
		},
	}
}

func gapsGrid(answer client.Gaps, zone *time.Location) grid {
	g := grid{columns: []column{
		{name: "series"}, {name: "from"}, {name: "to"}, {name: "length", right: true}, {name: "of"}, {name: "cause"}, {name: "detail"},
	}}
	span := fmt.Sprintf("from %s to %s", momentIn(answer.From, zone).people, momentIn(answer.To, zone).people)
	g.empty = "Nothing is missing " + span + "."
	withOf := slices.ContainsFunc(answer.Gaps, func(one client.Gap) bool { return one.Of != "" })
	if !withOf {
		g.columns = slices.Delete(g.columns, 4, 5)
	}
	for _, one := range answer.Gaps {
		to := forPeople("", "goes on")
		if one.To != nil {
			to = momentIn(*one.To, zone)
		}
		length := time.Duration(one.LengthMS) * time.Millisecond
		cause := gap.Cause(one.Cause).Words()
		if one.Author != "" {
			cause += " by " + one.Author
		}
		row := []cell{
			plain(one.Series), momentIn(one.From, zone), to, forPeople(fmt.Sprint(length.Seconds()), age(length)),
			plain(one.Of), forPeople(one.Cause, cause), plain(one.Detail),
		}
		if !withOf {
			row = slices.Delete(row, 4, 5)
		}
		g.rows = append(g.rows, row)
	}
	if answer.Count > 0 {
		var shares []string
		for _, s := range answer.Causes {
			length := age(time.Duration(s.LengthMS) * time.Millisecond)
			shares = append(shares, fmt.Sprintf("%s %.0f %% (%d, %s)", gap.Cause(s.Cause).Words(), 100*float64(s.Share), s.Gaps, length))
		}
		g.notes = append(g.notes, strings.Join(shares, ", "), span)
		if more := answer.Count - len(answer.Gaps); more > 0 {
			g.notes = append(g.notes, fmt.Sprintf("%d shorter ones are left out; --limit shows more", more))
		}
	}
	return g
}
