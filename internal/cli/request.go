package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/request"
)

func expiresFlag(usual string) cli.Flag {
	return &cli.StringFlag{Name: "expires", Usage: "how long the gateway is waited for, such as " + usual, Value: usual}
}

func requestCommand() *cli.Command {
	return &cli.Command{
		Name: "request", Usage: "List what gateways are asked, and ask them to read a source",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List what gateways are asked, the newest first",
				Flags: []cli.Flag{
					atFlag, outputFlag, zoneFlag, limitFlag(50),
					&cli.StringFlag{Name: "state", Usage: "only requests in this state: waiting, delivered, done, refused, expired"},
				},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					found, err := ask(cmd).Requests(ctx, cmd.String("state"), cmd.Int("limit"))
					if err != nil {
						return err
					}
					return show(cmd, found, requestsGrid(found, "Nothing was asked."))
				},
			},
			{
				Name: "show", Usage: "Show a request with what was asked and answered", ArgsUsage: "ID", Flags: []cli.Flag{atFlag, sayFlag, zoneFlag},
				Action: named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
					r, err := c.Request(ctx, name)
					return r, requestText(r), err
				}),
			},
			{
				Name: "read", Usage: "Have a gateway read a source now, and wait for what comes of it", ArgsUsage: "SITE SOURCE [GROUP]",
				Flags: []cli.Flag{atFlag, sayFlag, expiresFlag("2m")},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					args := cmd.Args()
					if args.Len() < 2 || args.Len() > 3 {
						return usage("name the site and the source: nexocumula request read SITE SOURCE [GROUP]")
					}
					by := ask(cmd)
					made, err := by.AskGateways(ctx, client.NewRequest{
						Kind: request.Read, Site: args.Get(0), Source: args.Get(1), Group: args.Get(2), Expires: cmd.String("expires"),
					})
					if err == nil {
						made, err = await(ctx, by, made, aside(cmd))
					}
					if err == nil {
						err = notDone(made)
					}
					if err != nil {
						return err
					}
					return say(cmd, made.Requests[0], fmt.Sprintf("%s of %s was read: %s.", args.Get(1), args.Get(0), made.Requests[0].Detail))
				},
			},
			{
				Name: "withdraw", Usage: "Take a request back that its gateway does not have yet", ArgsUsage: "ID", Flags: []cli.Flag{atFlag, sayFlag},
				Action: named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
					r, err := c.WithdrawRequest(ctx, name)
					return r, "Request " + name + " was withdrawn.", err
				}),
			},
		},
	}
}

func requestsGrid(found client.Requests, empty string) grid {
	g := grid{
		columns: []column{
			{name: "id"}, {name: "asked"}, {name: "by"}, {name: "site"}, {name: "kind"}, {name: "state"}, {name: "progress", right: true}, {name: "detail", wraps: true},
		},
		empty: empty,
	}
	for _, r := range found.Requests {
		g.rows = append(g.rows, []cell{
			plain(r.ID), moment(r.MadeAt), plain(r.Author), plain(r.Site), plain(r.Kind), plain(r.State),
			plain(fmt.Sprintf("%.0f %%", 100*r.Progress)), plain(r.Detail),
		})
	}
	return g
}

func requestText(r client.Request) string {
	way := "carried out here"
	if r.Gateway != "" {
		way = "handed to gateway " + r.Gateway
	}
	if r.Uplink != "" {
		way += ", came by uplink " + r.Uplink
	}
	text := fmt.Sprintf("%s of %s, asked by %s at %s (%s)\n%s, %.0f %%: %s\nbody: %s", r.Kind, r.Site, r.Author, moment(r.MadeAt).people, way,
		r.State, 100*r.Progress, r.Detail, r.Body)
	if string(r.Answer) != "null" {
		text += fmt.Sprintf("\nanswer: %s", r.Answer)
	}
	if !r.Over() {
		text += "\nexpires: " + moment(r.ExpiresAt).people
	}
	return text
}
