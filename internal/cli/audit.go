package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/span"
)

func auditCommand() *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "List who did what and what was refused, newest first",
		Flags: []cli.Flag{
			atFlag, outputFlag,
			&cli.StringFlag{Name: "who", Usage: "name of an account or token"}, &cli.StringFlag{
				Name: "action", Usage: "action, such as accounts.add, or accounts for all that begin with it",
			},
			&cli.StringFlag{Name: "outcome", Usage: "outcome: done, refused or failed"}, &cli.StringFlag{Name: "from", Usage: "address of the caller"},
			&cli.StringFlag{Name: "last", Usage: "length of the range up to now, such as 7d"}, &cli.IntFlag{
				Name:  "limit",
				Value: 50,
				Usage: "number of entries at most",
			},
		},
		Action: listAudit,
		Commands: []*cli.Command{{
			Name: "verify", Usage: "Verify that the audit is complete and unchanged", Flags: []cli.Flag{atFlag, outputs("table",
				"json")},
			Action: verifyAudit,
		}},
	}
}

func listAudit(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Present() {
		return usage("audit has no %q; there is audit verify", cmd.Args().First())
	}
	q := client.AuditQuery{
		Who:     cmd.String("who"),
		Action:  cmd.String("action"),
		Outcome: cmd.String("outcome"),
		From:    cmd.String("from"),
		Limit:   cmd.Int("limit"),
	}
	if text := cmd.String("last"); text != "" {
		length, err := span.Parse(text)
		if err != nil {
			return usage("--last: %v", err)
		}
		q.Since = time.Now().Add(-length)
	}
	found, err := ask(cmd).Audit(ctx, q)
	if err != nil {
		return err
	}
	g := grid{columns: []column{
		{name: "id", right: true}, {name: "time"}, {name: "who"}, {name: "from"}, {name: "action"}, {name: "target"}, {name: "outcome"}, {name: "times", right: true}, {name: "reason"},
		{name: "before", long: true}, {name: "after", long: true}, {name: "previous", long: true}, {name: "sum", long: true},
	}, empty: "No entry is as you ask."}
	for _, e := range found.Entries {
		target, _, _ := strings.Cut(e.Target, "\n")
		g.rows = append(g.rows, []cell{
			count(e.ID), moment(e.Time), plain(e.Who), plain(e.From), plain(e.Action), {e.Target, target}, plain(e.Outcome), count(e.Times), plain(e.Reason),
			plain(string(e.Before)), plain(string(e.After)), plain(e.Previous), plain(e.Sum),
		})
	}
	return show(cmd, found, g)
}

func verifyAudit(ctx context.Context, cmd *cli.Command) error {
	found, err := ask(cmd).VerifyAudit(ctx)
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		if err := show(cmd, found, grid{}); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(cmd.Root().Writer, "%d entries, from %d to %d; the last has the sum %s\n", found.Entries,
			found.First, found.Last, found.Sum)
	}
	if len(found.Problems) > 0 {
		return fmt.Errorf("the audit is not whole:\n  %s", strings.Join(found.Problems, "\n  "))
	}
	if cmd.String("output") != "json" {
		fmt.Fprintln(cmd.Root().Writer, "Every entry is there and as it was written.")
	}
	return nil
}
