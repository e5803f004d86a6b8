package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"nexocumula/internal/kinds"
)

func keysCommand() *cli.Command {
	return &cli.Command{
		Name:      "keys",
		Usage:     "List the configuration keys of sources and payloads",
		ArgsUsage: "[NAME ...]",
		Action: func(_ context.Context, cmd *cli.Command) error {
			wanted := cmd.Args().Slice()
			var known []string
			for _, list := range kinds.KeyLists() {
				name := strings.TrimPrefix(list.Name, "payload: ")
				known = append(known, name)
				if len(wanted) == 0 || slices.Contains(wanted, name) {
					printKeys(cmd, list)
				}
			}
			for _, name := range wanted {
				if !slices.Contains(known, name) {
					return usage("nothing is called %q; there are %s", name, strings.Join(known, ", "))
				}
			}
			return nil
		},
	}
}

func printKeys(cmd *cli.Command, list kinds.KeyList) {
	out := cmd.Root().Writer
	fmt.Fprintf(out, "%s: %s\n", list.Name, list.Says)
	t := table.NewWriter()
	t.SetOutputMirror(out)
	t.SetStyle(table.StyleLight)
	style := t.Style()
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "  ", ""
	t.SetColumnConfigs([]table.ColumnConfig{{Number: 3, WidthMax: 80, WidthMaxEnforcer: text.WrapSoft}})
	for _, k := range list.Keys {
		t.AppendRow(table.Row{k.Name, k.Default, k.Says})
	}
	t.Render()
	fmt.Fprintln(out)
}
