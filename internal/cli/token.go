package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/window"
)

func tokenCommand() *cli.Command {
	return &cli.Command{
		Name: "token", Usage: "List, add and remove tokens of scripts and senders",
		Commands: []*cli.Command{
			{
				Name:   "list",
				Usage:  "List tokens, without their secrets",
				Flags:  []cli.Flag{atFlag, outputFlag, zoneFlag},
				Action: listTokens,
			},
			{
				Name: "add", Usage: "Make a token and print its secret, which is shown only once", ArgsUsage: "NAME",
				Flags: []cli.Flag{
					atFlag, sayFlag, &cli.StringFlag{
						Name:  "role",
						Value: "viewer",
						Usage: "role: viewer, operator, engineer, administrator, or sender for the sender of that name at an http_push source",
					},
					seesFlag(), &cli.StringFlag{
						Name:  "ends",
						Value: "90d",
						Usage: "lifetime, such as 90d or 1y, or \"never\"",
					},
				},
				Action: addToken,
			},
			{
				Name: "remove", Usage: "Revoke a token", ArgsUsage: "NAME", Flags: []cli.Flag{atFlag, sayFlag},
				Action: named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
					return nil, "The token " + name + " was revoked.", c.RevokeToken(ctx, name)
				}),
			},
		},
	}
}

func listTokens(ctx context.Context, cmd *cli.Command) error {
	all, err := ask(cmd).Tokens(ctx)
	if err != nil {
		return err
	}
	g := grid{
		columns: []column{
			{name: "name"}, {name: "role"}, {name: "sees"}, {name: "ends"}, {name: "last_used"}, {name: "from"},
			{name: "made_by"},
		},
		empty: "There are no tokens; nexocumula token add makes one.",
	}
	for _, t := range all.Tokens {
		g.rows = append(g.rows, []cell{
			plain(t.Name), plain(t.Role), sees(t.Sees), momentOr(t.Ends, "never"), momentOr(t.Used, "never"),
			plain(t.From), plain(t.Creator),
		})
	}
	return show(cmd, all, g)
}

func addToken(ctx context.Context, cmd *cli.Command) error {
	t := client.NewToken{Role: cmd.String("role"), Sees: append([]string{}, cmd.StringSlice("sees")...)}
	if text := cmd.String("ends"); text != "never" {
		length, err := window.ParseStep(text)
		if err != nil {
			return usage("--ends: %v; or never", err)
		}
		ends := length.From(time.Now().UTC(), +1)
		t.Ends = &ends
	}
	t.Name = cmd.Args().First()
	made, err := ask(cmd).AddToken(ctx, t)
	if err != nil {
		return err
	}
	fmt.Fprintln(aside(cmd), "This is the only time that the token is shown:")
	return say(cmd, made, made.Secret)
}
