package cli

import (
	"bufio"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/certs"
	"nexocumula/internal/config"
	"nexocumula/internal/kinds"
	"nexocumula/internal/uplink/overhttp"
)

func gatewayCommand() *cli.Command {
	return &cli.Command{
		Name: "gateway", Usage: "List, enrol and remove the gateways of a central",
		Commands: []*cli.Command{
			{
				Name:   "list",
				Usage:  "List gateways that have or had a credential",
				Flags:  []cli.Flag{atFlag, outputFlag, zoneFlag},
				Action: listGateways,
			},
			{
				Name: "add", Usage: "Let a gateway join this central; prints a one-time code, valid for an hour", ArgsUsage: "SITE",
				Flags: []cli.Flag{
					atFlag, sayFlag,
					&cli.StringSliceFlag{Name: "site", Usage: "first level of further series it may send; repeatable"},
				},
				Action: addGateway,
			},
			{
				Name: "remove", Usage: "Revoke a gateway's credential; its data stays", ArgsUsage: "SITE", Flags: []cli.Flag{atFlag, sayFlag},
				Action: named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
					return nil, "The gateway " + name + " may send no more. What it collects stays there until it is enrolled anew.",
						c.RevokeGateway(ctx, name)
				}),
			},
		},
	}
}

func addGateway(ctx context.Context, cmd *cli.Command) error {
	return named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
		e := client.Enrol{Gateway: name}
		if more := cmd.StringSlice("site"); len(more) > 0 {
			e.Sites = append([]string{name}, more...)
		}
		made, err := c.Enrol(ctx, e)
		text := fmt.Sprintf("Code for %s, for one use, good until %s:\n\n  %s\n\nAt the gateway:\n\n  nexocumula join --config FILE\n",
			name, made.Ends.Format(time.RFC3339), made.Code)
		if made.Fingerprint != "" {
			text += "\nIt will show a fingerprint, which has to be this one:\n\n  " + made.Fingerprint + "\n"
		}
		return made, strings.TrimSuffix(text, "\n"), err
	})(ctx, cmd)
}

func listGateways(ctx context.Context, cmd *cli.Command) error {
	all, err := ask(cmd).Gateways(ctx)
	if err != nil {
		return err
	}
	g := grid{
		columns: []column{
			{name: "gateway"}, {name: "sites"}, {name: "enrolled"}, {name: "credential_since"}, {name: "last_used"},
			{name: "from"}, {name: "revoked"},
		},
		empty: "No gateway was enrolled; nexocumula gateway add SITE lets one join.",
	}
	for _, e := range all.Gateways {
		g.rows = append(g.rows, []cell{
			plain(e.Gateway), plain(strings.Join(e.Sites, " ")), moment(e.Enrolled), moment(e.Renewed),
			momentOr(e.Used, "never"), plain(e.From), momentOr(e.Revoked, "no"),
		})
	}
	return show(cmd, all, g)
}

func joinCommand() *cli.Command {
	return &cli.Command{
		Name: "join", Usage: "Get a credential from the central, with a code that nexocumula gateway add printed there",
		Description: "Applies to an uplink without a secret in the configuration. The code is asked for, or read from standard input.\n" +
			"A running gateway starts to use the credential by itself.",
		Flags: []cli.Flag{
			configFlag(), credentialsFlag(), sayFlag, &cli.StringFlag{Name: "uplink", Usage: "name of the uplink, where there are several"},
			&cli.BoolFlag{Name: "allow-http", Usage: "allow an http:// address, on a network without strangers"},
		},
		Action: join,
	}
}

func join(ctx context.Context, cmd *cli.Command) error {
	settings, err := config.Load(cmd.String("config"), kinds.All)
	if err != nil {
		return err
	}
	name, as, u, err := joining(settings, cmd.String("uplink"))
	if err != nil {
		return err
	}
	if strings.HasPrefix(u.URL, "http://") && !cmd.Bool("allow-http") && !isLocal(u.URL) {
		return usage("%s is not by TLS, so that everybody on the way could read the credential; use an https:// address, or say --allow-http",
			u.URL)
	}
	by := u.HTTP()
	var fingerprint string
	if u.TLS == nil {
		if fingerprint, err = firstContact(ctx, cmd, u.URL); err != nil {
			return err
		}
		if fingerprint != "" {
			by = certs.Pinned(fingerprint)
		}
	}
	code, err := visible(cmd, bufio.NewReader(cmd.Root().Reader), "Code: ")
	if err != nil {
		return err
	}
	joined, err := client.Over(u.URL, by).Join(ctx, client.Join{Gateway: name, Code: code})
	if err != nil {
		return err
	}
	file := overhttp.CredentialFile(settings.Data, as)
	c := overhttp.Credential{
		Gateway:     joined.Gateway,
		Secret:      joined.Secret,
		Fingerprint: fingerprint,
		Since:       time.Now().UTC(),
	}
	if err := c.Save(file); err != nil {
		return fmt.Errorf("%w; the code was used, have another made", err)
	}
	return say(cmd, map[string]string{"gateway": joined.Gateway, "central": u.URL, "credential": file},
		fmt.Sprintf("%s has joined %s. Its credential is in %s; it is renewed by itself.", name, u.URL, file))
}

// joining returns the uplink that a code is for, and the name under which its central knows us.
func joining(settings config.Settings, wanted string) (name, uplink string, found overhttp.Settings, err error) {
	var names []string
	look := func(as string, all []config.Uplink) {
		for _, u := range all {
			if of, overHTTP := u.Settings.(overhttp.Settings); overHTTP && of.Token == "" &&
				(wanted == "" || u.Name == wanted) {
				name, uplink, found = as, u.Name, of
				names = append(names, u.Name)
			}
		}
	}
	if g := settings.Gateway; g != nil {
		look(g.Site, g.Uplinks)
	}
	if c := settings.Central; c != nil {
		look(c.Name, c.Uplinks)
	}
	switch {
	case len(names) == 0 && wanted != "":
		return "", "", found, usage("the configuration has no uplink %q without a secret", wanted)
	case len(names) == 0:
		return "", "", found, usage("the configuration has no uplink without a secret; write one as uplinks: [{ name: head-office, address: \"https://host:port\" }]")
	case len(names) > 1:
		return "", "", found, usage("several uplinks have no secret: %s; name one with --uplink",
			strings.Join(names, ", "))
	}
	return name, uplink, found, nil
}

func isLocal(address string) bool {
	for _, begin := range []string{"http://127.", "http://localhost", "http://[::1]"} {
		if strings.HasPrefix(address, begin) {
			return true
		}
	}
	return false
}
