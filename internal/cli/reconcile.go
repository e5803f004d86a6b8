package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/request"
)

func reconcileCommand() *cli.Command {
	return &cli.Command{
		Name: "reconcile", Usage: "Prove that both ends of an uplink hold the same, and mend where they do not", ArgsUsage: "[UPLINK|SITE]",
		Flags: []cli.Flag{
			atFlag, outputFlag, fromFlag, toFlag, zoneFlag,
			&cli.BoolFlag{Name: "mend", Usage: "send again what the central lacks or has another of, and compare once more"},
		},
		Description: "At a gateway it compares what an uplink has sent, or all of them; at a central, what a site's gateway has sent to it. Summaries, " +
			"sketches, definitions, notes and gaps are compared, of 30 days unless told otherwise. What only the central has, or knows more of, is named and stays. " +
			"The exit code is 1 when something differs.",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			var from, to time.Time
			if err := timeFlags(cmd, map[string]*time.Time{"from": &from, "to": &to}); err != nil {
				return err
			}
			found, err := reconciled(ctx, cmd, pointer(from), pointer(to))
			if err != nil {
				return err
			}
			if err := show(cmd, found, reconciledGrid(found)); err != nil {
				return err
			}
			for _, one := range found {
				if one.Different > 0 {
					return fmt.Errorf("%s", one.Text)
				}
			}
			return nil
		},
	}
}

func pointer(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// reconciled has one uplink compared, or all; a name that is none is a site of a central.
func reconciled(ctx context.Context, cmd *cli.Command, from, to *time.Time) (out []client.Reconciled, err error) {
	by, name := ask(cmd), cmd.Args().First()
	links, err := by.Uplinks(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, u := range links.Sending {
		if name == "" || u.Name == name {
			names = append(names, u.Name)
		}
	}
	if len(names) == 0 && name == "" {
		return nil, usage("this service has no uplink; at a central, name the site whose gateway is to compare: nexocumula reconcile SITE")
	}
	for _, name := range names {
		one, err := by.Reconcile(ctx, name, client.NewReconcile{From: from, To: to, Mend: cmd.Bool("mend")})
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	if len(names) > 0 {
		return out, nil
	}
	made, err := by.AskGateways(ctx, client.NewRequest{Kind: request.Reconcile, Site: name, From: from, To: to, Mend: cmd.Bool("mend")})
	if err == nil {
		made, err = await(ctx, by, made, aside(cmd))
	}
	if err == nil {
		err = notDone(made)
	}
	if err != nil {
		return nil, err
	}
	var one client.Reconciled
	if err := json.Unmarshal(made.Requests[0].Answer, &one); err != nil {
		return nil, fmt.Errorf("reading what was found: %w", err)
	}
	return []client.Reconciled{one}, nil
}

func reconciledGrid(found []client.Reconciled) grid {
	g := grid{columns: []column{{name: "what"}, {name: "series"}, {name: "tier"}, {name: "window"}, {name: "record"}}}
	var texts []string
	for _, one := range found {
		for _, d := range one.Differences {
			g.rows = append(g.rows, []cell{plain(d.What), plain(d.Path), plain(d.Tier), plain(d.Start), plain(d.Kind + " " + d.ID)})
		}
		texts = append(texts, one.Text+fmt.Sprintf(" (%d bytes, %.1f s).", one.Bytes, one.Seconds))
		if more := one.Different - len(one.Differences); more > 0 {
			texts = append(texts, fmt.Sprintf("%d more differ.", more))
		}
	}
	if g.notes = texts; len(g.rows) == 0 {
		g.notes, g.empty = nil, strings.Join(texts, "\n")
	}
	return g
}
