package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/manual"
)

func docsCommand() *cli.Command {
	return &cli.Command{
		Name: "docs", Usage: "Print a page of the manual, or list them", ArgsUsage: "[PAGE]",
		Description: "PAGE may be a beginning of its name. The console of every service has the same pages at /docs.",
		Flags:       []cli.Flag{sayFlag},
		Action: func(_ context.Context, cmd *cli.Command) error {
			if cmd.Args().Present() {
				page, err := manual.Find(cmd.Args().First())
				if err != nil {
					return usageError{err, nil}
				}
				return say(cmd, map[string]string{"page": page.Name, "title": page.Title, "text": page.Text},
					strings.TrimRight(page.Text, "\n"))
			}
			all, err := manual.Pages()
			if err != nil {
				return err
			}
			list := []map[string]string{}
			var lines []string
			for _, p := range all {
				list = append(list, map[string]string{"page": p.Name, "title": p.Title})
				lines = append(lines, fmt.Sprintf("%-14s %s", p.Name, p.Title))
			}
			return say(cmd, list, strings.Join(lines, "\n"))
		},
	}
}
