package cli

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/core/span"
	"nexocumula/internal/fieldwork"
	"nexocumula/internal/kinds"
)

func planCommand() *cli.Command {
	return &cli.Command{
		Name: "plan", Usage: "Forecast the requests, readings, bytes and disk of a gateway, or the disk and memory of a central",
		ArgsUsage: "[FILE ...]",
		Description: "With --at, the series and rates of a running gateway count as well. With --at and no FILE, forecasts that gateway and\n" +
			"uses what it has learned about its devices. For a central, name its file and then those of the gateways that send to it.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: atFlag.Name, Usage: atFlag.Usage, Validator: atFlag.Validator},
			outputFlag,
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() == 0 && cmd.String("at") != "" {
				plan, err := ask(cmd).Plan(ctx)
				if err != nil {
					return err
				}
				return show(cmd, plan, planGrid(plan))
			}
			if !cmd.Args().Present() {
				return usage("name the configuration, or a running gateway with --at")
			}
			settings, err := config.Load(cmd.Args().First(), kinds.All)
			if err != nil {
				return err
			}
			if settings.Gateway == nil || cmd.Args().Len() > 1 {
				return planCentral(cmd, settings)
			}
			var heard []client.Series
			if cmd.String("at") != "" {
				if heard, err = heardAt(ctx, cmd); err != nil {
					return err
				}
			}
			plan, err := fieldwork.MakePlan(settings, heard, nil, fieldwork.FreeOn(settings.Data))
			if err != nil {
				return wrongUsage(err)
			}
			return show(cmd, plan, planGrid(plan))
		},
	}
}

// planCentral forecasts the central of the first file, to which the gateways of the others send.
func planCentral(cmd *cli.Command, central config.Settings) error {
	if central.Central == nil {
		return usage("%s describes no central; with several files, the first is that of a central", cmd.Args().First())
	}
	var gateways []config.Settings
	for _, path := range cmd.Args().Tail() {
		settings, err := config.Load(path, kinds.All)
		if err != nil {
			return err
		}
		gateways = append(gateways, settings)
	}
	if len(gateways) == 0 {
		return usage("name the files of the central's gateways as well: how much comes is up to them")
	}
	plan, err := fieldwork.MakeCentralPlan(gateways, fieldwork.FreeOn(central.Data))
	if err != nil {
		return wrongUsage(err)
	}
	return show(cmd, plan, planGrid(plan))
}

// heardAt returns the series of a running gateway, with how often it heard them.
func heardAt(ctx context.Context, cmd *cli.Command) ([]client.Series, error) {
	answer, err := ask(cmd).Series(ctx, "")
	if err != nil {
		return nil, err
	}
	windows, err := ask(cmd).Windows(ctx, client.WindowsQuery{
		Select: []string{"#"},
		Last:   span.Format(fieldwork.HeardFor),
		Stats:  []string{"count"},
	})
	if err != nil {
		return answer.Series, nil // it goes by what was learned
	}
	counts := map[string]float64{}
	for _, s := range windows.Series {
		counts[s.Name] = float64(s.Whole.Values["count"])
	}
	return fieldwork.HowOften(answer.Series, counts, time.Now()), nil
}

func planGrid(plan client.Plan) grid {
	g := grid{columns: []column{{name: "what"}, {name: "of"}, {name: "how_much", right: true}, {name: "unit"}}}
	add := func(what, of string, v float64, digits int, unit string) {
		g.rows = append(g.rows, []cell{
			plain(what), plain(of), forPeople(strconv.FormatFloat(v, 'f', -1, 64), strconv.FormatFloat(v, 'f', digits, 64)),
			plain(unit),
		})
	}
	for _, l := range plan.Lines {
		add("requests", l.Source, l.Requests, 0, "an hour")
		if l.Busy > 0 {
			add("line busy", l.Source, 100*l.Busy, 1, "% of its time")
		}
		if l.Busy > 0.8 {
			g.notes = append(g.notes,
				fmt.Sprintf("%s, %s: the line cannot carry this; ask for less, or more rarely.", l.Source, l.Address))
		}
	}
	add("series", "", float64(plan.Series), 0, "")
	if plan.Memory > 0 {
		add("memory", "", plan.Memory/1e6, 0, "MB")
	} else {
		add("readings", "", plan.Readings, 0, "a day")
	}
	for _, t := range plan.Summaries {
		add("summaries", t.Tier, t.Rows, 0, "a day")
	}
	add("store grows by", "", plan.Disk/1e6, 2, "MB a day")
	for _, u := range plan.Uplinks {
		add("uplink", u.Name, u.Bytes/1e6, 2, "MB a day")
		if u.Share > 0 {
			add("of what it may use", u.Name, 100*u.Share, 0, "%")
		}
		if u.Share > 1 {
			g.notes = append(g.notes, fmt.Sprintf("%s: this does not fit; send fewer series or only wider tiers, or less often (every).", u.Name))
		}
	}
	if plan.Commits > 0 {
		add("commits", "", plan.Commits, 0, "an hour")
	}
	if plan.Free > 0 && plan.Disk > 0 {
		add("the disk lasts", "", min(plan.Outage, 100_000), 0, "days")
	}
	for _, text := range plan.Unknown {
		g.notes = append(g.notes, "Not counted: "+text+".")
	}
	for _, text := range plan.Assumes {
		g.notes = append(g.notes, "Assumed: "+text+".")
	}
	return g
}
