package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
)

func excursionsCommand() *cli.Command {
	return &cli.Command{
		Name: "excursions", Usage: "List what left its normal range, fell silent, was down or was refused", ArgsUsage: "[SELECTOR]",
		Flags: []cli.Flag{
			atFlag, outputFlag,
			lastFlag("since 18:00 yesterday"),
			calendarFlag, fromFlag, toFlag,
			zoneFlag,
		},
		Description: "Without --zone, the clocks of the service's zone say what last night and today are.",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			q := client.ExcursionsQuery{
				Select: selectorArg(cmd),
				Last:   cmd.String("last"),
				Range:  cmd.String("range"),
				Zone:   cmd.String("zone"),
			}
			if err := timeFlags(cmd, map[string]*time.Time{"from": &q.From, "to": &q.To}); err != nil {
				return err
			}
			answer, err := ask(cmd).Excursions(ctx, q)
			if err != nil {
				return err
			}
			return show(cmd, answer, excursionsGrid(answer))
		},
	}
}

func excursionsGrid(answer client.Excursions) grid {
	g := grid{columns: []column{
		{name: "from"}, {name: "for", right: true}, {name: "what"}, {name: "happened"}, {name: "over"},
	}}
	span := fmt.Sprintf("from %s to %s", moment(answer.From).people, moment(answer.To).people)
	g.empty = "Nothing left its normal range, was silent, down or newly refused " + span + "."
	add := func(from time.Time, to *time.Time, what, happened string, over bool) {
		length := forPeople("", "")
		if to != nil {
			length = forPeople(fmt.Sprint(to.Sub(from).Seconds()), age(to.Sub(from)))
		}
		g.rows = append(g.rows, []cell{
			moment(from), length, plain(what), plain(happened), yesNo(over, "over", "not over"),
		})
	}
	for _, e := range answer.Excursions {
		above := map[string]string{"low": "below", "high": "above"}[e.Side]
		unit := strings.TrimSpace(" " + e.Unit)
		happened := fmt.Sprintf("%s the %s range's %s: %s %s at %s", above, e.Beyond, brief(float64(e.Limit)),
			brief(float64(e.Extreme)), unit, e.ExtremeAt.UTC().Format("2006-01-02 15:04"))
		add(e.From, &e.To, e.Path, happened, e.Over)
	}
	for _, s := range answer.Silent {
		add(s.From, &s.To, s.Path, "silent", s.Over)
	}
	for _, o := range answer.Outages {
		add(o.Began, o.Ended, o.Link, "down: "+o.Reason, o.Ended != nil)
	}
	for _, r := range answer.Rejects {
		end := r.LastHour.Add(time.Hour)
		add(r.FirstHour, &end, r.Source,
			fmt.Sprintf("%d refused by %s, which had refused nothing in the week before", r.Count, r.Rule), false)
	}
	if len(g.rows) > 0 {
		g.notes = append(g.notes, span)
	}
	return g
}
