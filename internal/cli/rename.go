package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
)

func renameSeries(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() != 2 {
		return usage("name the series or station, and what it is to be called: nexocumula series rename PATH NEWPATH")
	}
	done, err := ask(cmd).Rename(ctx, client.NewName{From: cmd.Args().Get(0), To: cmd.Args().Get(1)})
	if err != nil {
		return err
	}
	g := grid{columns: []column{{name: "from"}, {name: "to"}}}
	for _, one := range done.Series {
		g.rows = append(g.rows, []cell{plain(one.From), plain(one.To)})
	}
	g.notes = append(g.notes, fmt.Sprintf("%d series are renamed, with their history. What devices send under the old names is theirs.", len(done.Series)))
	return show(cmd, done, g)
}
