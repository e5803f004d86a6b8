package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"nexocumula/client"
)

func loginCommand() *cli.Command {
	return &cli.Command{
		Name:  "login",
		Usage: "Log in to a service; the session is kept in a file that only you can read",
		Description: "Asks for the password, or reads it from standard input. --code uses the one-time code of a new account or of the\n" +
			"first administrator and sets the password; or a code from the console's page Account, for accounts that log in with\n" +
			"a passkey or at a provider.",
		Flags: []cli.Flag{
			atFlag, sayFlag, &cli.StringFlag{Name: "account", Aliases: []string{"a"}, Usage: "account"},
			&cli.BoolFlag{Name: "code", Usage: "log in with a one-time code, which is asked for"},
			&cli.BoolFlag{Name: "with-token", Usage: "keep a token, which is asked for"},
			&cli.StringFlag{
				Name: "save-as", Usage: "name of a profile, such as pumphouse, by which --at finds the service from now on",
				Validator: func(name string) error {
					if !profileName.MatchString(name) {
						return fmt.Errorf("profile %q: use small letters, digits and -, such as pumphouse", name)
					}
					return nil
				},
			},
		},
		Action: login,
	}
}

func login(ctx context.Context, cmd *cli.Command) error {
	address := serviceAt(cmd)
	fingerprint, err := firstContact(ctx, cmd, address)
	if err != nil {
		return err
	}
	if fingerprint != "" {
		if _, err := keep(address, func(p *profile) { p.Fingerprint = fingerprint }); err != nil {
			return err
		}
	}
	service := ask(cmd).With("")
	in := bufio.NewReader(cmd.Root().Reader)
	var name, token string
	if cmd.Bool("with-token") {
		if token, err = hidden(cmd, in, "Token: "); err != nil {
			return err
		}
		who, err := service.With(token).Session(ctx)
		if err != nil {
			return err
		}
		name = who.Name
	} else {
		begun, err := byPassword(ctx, cmd, service, in)
		if err != nil {
			return err
		}
		name, token = begun.Account, begun.Secret
	}
	file, err := keep(address, func(p *profile) {
		p.Token, p.Name = token, cmp.Or(cmd.String("save-as"), p.Name)
	})
	if err != nil {
		return err
	}
	who, err := service.With(token).Session(ctx)
	if err != nil {
		return err
	}
	return say(cmd, who, fmt.Sprintf("Logged in at %s as %s (%s%s). Kept in %s; nexocumula logout ends it.", address,
		name, who.Role, seeing(who.Sees), file))
}

func seeing(selectors []string) string {
	if len(selectors) == 0 {
		return ""
	}
	return ", sees " + strings.Join(selectors, " ")
}

func byPassword(ctx context.Context, cmd *cli.Command, service *client.Client, in *bufio.Reader) (out client.LoggedIn, err error) {
	name := cmd.String("account")
	if cmd.Bool("code") {
		code, err := visible(cmd, in, "Code: ")
		if err != nil {
			return out, err
		}
		out, err = service.Login(ctx, client.Login{Code: code, By: "command line"}) // one of the console's begins a session by itself
		if refused, ok := errors.AsType[*client.Error](err); !ok || refused.Code != "password_code" {
			return out, err
		}
		password, err := newPassword(cmd, in)
		if err != nil {
			return out, err
		}
		set, err := service.Redeem(ctx, client.Redeem{Code: code, Account: name, Password: password})
		if err != nil {
			return out, err
		}
		return service.Login(ctx, client.Login{Account: set.Account, Password: password, By: "command line"})
	}
	if name == "" {
		if name, err = visible(cmd, in, "Account: "); err != nil {
			return out, err
		}
	}
	password, err := hidden(cmd, in, "Password: ")
	if err != nil {
		return out, err
	}
	l := client.Login{Account: name, Password: password, By: "command line"}
	out, err = service.Login(ctx, l)
	if refused, ok := errors.AsType[*client.Error](err); ok && refused.Code == "second_factor" {
		if l.Code, err = visible(cmd, in, "Code of the authenticator: "); err != nil {
			return out, err
		}
		out, err = service.Login(ctx, l)
	}
	return out, err
}

func logoutCommand() *cli.Command {
	return &cli.Command{
		Name: "logout", Usage: "End and forget the session that nexocumula login began",
		Flags: []cli.Flag{atFlag, sayFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			address := serviceAt(cmd)
			all, err := profiles()
			if err != nil {
				return err
			}
			if all[address].Token == "" {
				return fmt.Errorf("you are not logged in at %s", address)
			}
			ended := ask(cmd).With(all[address].Token).Logout(ctx)
			if _, err := keep(address, func(p *profile) { p.Token = "" }); err != nil {
				return err
			}
			if ended != nil {
				return fmt.Errorf("the login was forgotten here, but %s was not told: %w", address, ended)
			}
			return say(cmd, map[string]string{"address": address}, "Logged out at "+address+".")
		},
	}
}

// terminalOf returns the terminal that somebody types at; -1 when input comes from elsewhere.
func terminalOf(cmd *cli.Command) int {
	if file, ok := cmd.Root().Reader.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		return int(file.Fd())
	}
	return -1
}

func visible(cmd *cli.Command, in *bufio.Reader, prompt string) (string, error) {
	if terminalOf(cmd) >= 0 {
		fmt.Fprint(cmd.Root().ErrWriter, prompt)
	}
	line, err := in.ReadString('\n')
	if err != nil && (!errors.Is(err, io.EOF) || line == "") {
		return "", fmt.Errorf("nothing was given for %s it is asked for here, or read from standard input, a line each",
			strings.TrimSuffix(prompt, " "))
	}
	return strings.TrimSpace(line), nil
}

func hidden(cmd *cli.Command, in *bufio.Reader, prompt string) (string, error) {
	at := terminalOf(cmd)
	if at < 0 {
		return visible(cmd, in, prompt)
	}
	fmt.Fprint(cmd.Root().ErrWriter, prompt)
	text, err := term.ReadPassword(at)
	fmt.Fprintln(cmd.Root().ErrWriter)
	return string(text), err
}

func newPassword(cmd *cli.Command, in *bufio.Reader) (string, error) {
	password, err := hidden(cmd, in, "New password: ")
	if err != nil || terminalOf(cmd) < 0 {
		return password, err
	}
	again, err := hidden(cmd, in, "Once more: ")
	if err == nil && again != password {
		err = errors.New("the two are not the same; the code was not used")
	}
	return password, err
}

// confirm asks a person; without one the answer is no.
func confirm(cmd *cli.Command, question string) (bool, error) {
	if terminalOf(cmd) < 0 {
		return false, nil
	}
	fmt.Fprint(cmd.Root().ErrWriter, question)
	line, err := bufio.NewReader(cmd.Root().Reader).ReadString('\n')
	if err != nil {
		return false, err
	}
	return strings.TrimSpace(strings.ToLower(line)) == "yes", nil
}
