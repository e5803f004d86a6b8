package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/window"
)

func auditCommand() *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "List who did what and what was refused, or verify that nothing is missing",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List who did what and what was refused, newest first",
				Flags: []cli.Flag{
					atFlag, outputFlag, zoneFlag, lastFlag("all that is kept"), limitFlag(50),
					&cli.StringFlag{Name: "who", Usage: "name of an account or token"},
					&cli.StringFlag{Name: "action", Usage: "action, such as accounts.add, or accounts for all that begin with it"},
					&cli.StringFlag{Name: "outcome", Usage: "outcome: done, refused or failed"},
					&cli.StringFlag{Name: "caller", Usage: "network address of the caller"},
				},
				Action: listAudit,
			},
			{
				Name: "verify", Usage: "Verify that the audit is complete and unchanged", Flags: []cli.Flag{atFlag, sayFlag},
				Action: verifyAudit,
			},
		},
	}
}

func listAudit(ctx context.Context, cmd *cli.Command) error {
	q := client.AuditQuery{
		Who:     cmd.String("who"),
		Action:  cmd.String("action"),
		Outcome: cmd.String("outcome"),
		From:    cmd.String("caller"),
		Limit:   cmd.Int("limit"),
	}
	if text := cmd.String("last"); text != "" {
		length, err := window.ParseStep(text)
		if err != nil {
			return usage("--last: %v", err)
		}
		q.Since = length.From(time.Now().UTC(), -1)
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
			count(e.ID), moment(e.Time), plain(e.Who), plain(e.From), plain(e.Action), forPeople(e.Target, target), plain(e.Outcome), count(e.Times), plain(e.Reason),
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
	text := fmt.Sprintf("%d entries, from %d to %d; the last has the sum %s", found.Entries, found.First, found.Last,
		found.Sum)
	if len(found.Problems) == 0 {
		text += "\nEvery entry is there and as it was written."
	}
	if err := say(cmd, found, text); err != nil {
		return err
	}
	if len(found.Problems) > 0 {
		return fmt.Errorf("the audit is not whole:\n  %s", strings.Join(found.Problems, "\n  "))
	}
	return nil
}
