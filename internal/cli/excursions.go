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
			&cli.StringFlag{
				Name: "last", Usage: "length of the range up to now, such as 12h; default: since 18:00 yesterday",
			},
			&cli.StringFlag{
				Name: "range", Usage: "range of the calendar: today, yesterday, or this or last week, month or year",
			},
			&cli.StringFlag{
				Name:  "from",
				Usage: "start of the range: a date, a date and a time by the clocks of --zone, or RFC 3339",
			}, &cli.StringFlag{Name: "to", Usage: "end of the range, excluded; default: now"},
			&cli.StringFlag{
				Name:  "zone",
				Usage: "IANA name of the zone whose clocks count; default: the service's, but UTC for --from and --to",
			},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 1 {
				return usage("excursions takes one selector; %q is too much", cmd.Args().Get(1))
			}
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
		length := cell{"", ""}
		if to != nil {
			length = cell{fmt.Sprint(to.Sub(from).Seconds()), age(to.Sub(from))}
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
