package cli

import (
	"context"
	"fmt"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"
)

func manCommand() *cli.Command {
	return &cli.Command{
		Name: "man", Usage: "Print the manual page, for man",
		Description: "For one user: nexocumula man > ~/.local/share/man/man1/nexocumula.1",
		Action: func(_ context.Context, cmd *cli.Command) error {
			page, err := docs.ToManWithSection(cmd.Root(), 1)
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(cmd.Root().Writer, page)
			return err
		},
	}
}
