package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"
)

func reloadCommand() *cli.Command {
	return &cli.Command{
		Name: "reload", Usage: "Make a running service read its configuration again; a wrong file changes nothing",
		Flags: []cli.Flag{atFlag, outputFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			out, err := ask(cmd).Reload(ctx)
			if err != nil {
				return err
			}
			g := grid{
				columns: []column{{name: "part"}, {name: "counts"}},
				empty:   "Nothing in the configuration has changed.",
			}
			for _, part := range out.Applied {
				g.rows = append(g.rows, []cell{plain(part), plain("now")})
			}
			for _, part := range out.Restart {
				g.rows = append(g.rows, []cell{plain(part), plain("after a restart")})
			}
			if n := len(out.Restart); n > 0 {
				g.notes = []string{fmt.Sprintf("%s cannot change while the service runs; restart it when that suits.",
					strings.Join(out.Restart, ", "))}
			}
			return show(cmd, out, g)
		},
	}
}
