package cli

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"nexocumula/internal/secret"
)

func passwordCommand() *cli.Command {
	return &cli.Command{
		Name:      "password",
		Usage:     "Make a line for an MQTT listener's file of accounts",
		ArgsUsage: "ACCOUNT",
		Action: func(_ context.Context, cmd *cli.Command) error {
			name := cmd.Args().First()
			if name == "" || strings.ContainsAny(name, ":# \t") {
				return usage("name one account, without a blank, a colon or #: nexocumula password buoy-1 >> accounts")
			}
			password, err := readPassword(cmd.Root().Reader, cmd.Root().ErrWriter)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.Root().Writer, "%s:%s\n", name, secret.HashPassword(password, secret.OfDevices))
			return nil
		},
	}
}

const leastPassword = 8

func readPassword(in io.Reader, out io.Writer) (password []byte, err error) {
	if file, ok := in.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		fmt.Fprint(out, "Password: ")
		password, err = term.ReadPassword(int(file.Fd()))
		if err == nil {
			fmt.Fprint(out, "\nOnce more: ")
			var again []byte
			again, err = term.ReadPassword(int(file.Fd()))
			fmt.Fprintln(out)
			if err == nil && !bytes.Equal(password, again) {
				return nil, errors.New("the two are not the same; nothing was made")
			}
		}
	} else {
		var line string
		if line, err = bufio.NewReader(in).ReadString('\n'); errors.Is(err, io.EOF) {
			err = nil
		}
		password = []byte(strings.TrimRight(line, "\r\n"))
	}
	if err == nil && len(password) < leastPassword {
		err = fmt.Errorf("the password has %d character(s); take %d or more", len(password), leastPassword)
	}
	return password, err
}
