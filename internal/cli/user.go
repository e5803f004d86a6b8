package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
)

var roleFlag = &cli.StringFlag{
	Name:  "role",
	Usage: "role: viewer looks; operator also writes notes and changes boards; engineer also configures; administrator also manages accounts and tokens",
	Value: "viewer",
}

// seesFlag returns a new one for each command, as a command asks whether it was set.
func seesFlag() *cli.StringSliceFlag {
	return &cli.StringSliceFlag{
		Name: "sees", Usage: "selector of series it may see, such as stony-beck/#; repeatable; default: everything",
	}
}

func userCommand() *cli.Command {
	return &cli.Command{
		Name: "user", Usage: "List, add, change and delete accounts of people",
		Commands: []*cli.Command{
			{Name: "list", Usage: "List accounts", Flags: []cli.Flag{atFlag, outputFlag, zoneFlag}, Action: listUsers},
			{
				Name:      "add",
				Usage:     "Make an account and print a code with which its owner sets the password",
				ArgsUsage: "NAME",
				Flags:     []cli.Flag{atFlag, sayFlag, roleFlag, seesFlag()},
				Action:    addUser,
			},
			{
				Name: "change", Usage: "Change the role or series of an account, lock or unlock it", ArgsUsage: "NAME",
				Flags: []cli.Flag{
					atFlag, sayFlag, &cli.StringFlag{Name: "role", Usage: roleFlag.Usage}, seesFlag(),
					&cli.BoolFlag{Name: "lock", Usage: "locked account; --lock=false unlocks it"},
				},
				Action: changeUser,
			},
			{
				Name: "remove", Usage: "Delete an account", ArgsUsage: "NAME", Flags: []cli.Flag{atFlag, sayFlag},
				Action: named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
					return nil, "The account " + name + " was removed; its sessions have ended.", c.RemoveAccount(ctx, name)
				}),
			},
			{
				Name: "code", Usage: "Make a code with which the owner of an account sets a new password", ArgsUsage: "NAME",
				Flags: []cli.Flag{atFlag, sayFlag},
				Action: named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
					made, err := c.AccountCode(ctx, name)
					return made, codeText(made, c.Base()), err
				}),
			},
			{
				Name: "logout", Usage: "End all sessions of an account", ArgsUsage: "NAME", Flags: []cli.Flag{atFlag, sayFlag},
				Action: named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
					return nil, "All sessions of " + name + " have ended.", c.LogoutAccount(ctx, name)
				}),
			},
		},
	}
}

func codeText(made client.AccountCode, at string) string {
	return fmt.Sprintf("Give %s this code, which is for one use and good for 7 days:\n\n  %s\n\nIt sets the password at %s, or with nexocumula login --code --at %s",
		made.Account, made.Code, at, at)
}

// named makes an action for one thing that is named, and says what was done. Without an answer, scripts get the name.
func named(do func(ctx context.Context, c *client.Client, name string) (answer any, text string, err error)) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		name := cmd.Args().First()
		answer, text, err := do(ctx, ask(cmd), name)
		if err != nil {
			return err
		}
		if answer == nil {
			answer = map[string]string{"name": name}
		}
		return say(cmd, answer, text)
	}
}

func listUsers(ctx context.Context, cmd *cli.Command) error {
	all, err := ask(cmd).Accounts(ctx)
	if err != nil {
		return err
	}
	g := grid{
		columns: []column{
			{name: "name"}, {name: "role"}, {name: "sees"}, {name: "logs_in_with"}, {name: "locked"},
			{name: "sessions", right: true}, {name: "created"},
		},
		empty: "There are no accounts; nexocumula user add makes one.",
	}
	for _, a := range all.Accounts {
		g.rows = append(g.rows, []cell{
			plain(a.Name), plain(a.Role), sees(a.Sees), plain(factors(a)), yesNo(a.Locked, "locked", "no"),
			count(a.Sessions), moment(a.Created),
		})
	}
	return show(cmd, all, g)
}

func factors(a client.Account) string {
	var out []string
	if a.Provider != "" {
		out = append(out, "provider")
	}
	if a.Password {
		out = append(out, "password")
	}
	if a.Authenticator {
		out = append(out, "authenticator")
	}
	if a.Passkeys > 0 {
		out = append(out, fmt.Sprintf("%d passkey(s)", a.Passkeys))
	}
	if len(out) == 0 {
		return "its code, once"
	}
	return strings.Join(out, " + ")
}

func sees(selectors []string) cell {
	text := strings.Join(selectors, " ")
	if text == "" {
		return forPeople("", "everything")
	}
	return plain(text)
}

func addUser(ctx context.Context, cmd *cli.Command) error {
	return named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
		made, err := c.AddAccount(ctx, client.NewAccount{
			Name: name,
			Role: cmd.String("role"),
			Sees: append([]string{}, cmd.StringSlice("sees")...),
		})
		return made, codeText(made, c.Base()), err
	})(ctx, cmd)
}

func changeUser(ctx context.Context, cmd *cli.Command) error {
	var change client.AccountChange
	if role := cmd.String("role"); role != "" {
		change.Role = &role
	}
	if cmd.IsSet("sees") {
		selectors := append([]string{}, cmd.StringSlice("sees")...)
		change.Sees = &selectors
	}
	if cmd.IsSet("lock") {
		locked := cmd.Bool("lock")
		change.Locked = &locked
	}
	if change == (client.AccountChange{}) {
		return usage("say what changes: --role, --sees or --lock")
	}
	return named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
		a, err := c.ChangeAccount(ctx, name, change)
		return a, fmt.Sprintf("%s is %s, sees %s%s.", name, a.Role, sees(a.Sees).people,
			map[bool]string{true: ", and is locked"}[a.Locked]), err
	})(ctx, cmd)
}
