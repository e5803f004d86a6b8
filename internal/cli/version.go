package cli

import (
	"context"
	"fmt"
	"runtime"

	"github.com/urfave/cli/v3"
)

func versionCommand(version string) *cli.Command {
	return &cli.Command{
		Name: "version", Usage: "Print the version", Flags: []cli.Flag{outputFlag},
		Action: func(_ context.Context, cmd *cli.Command) error {
			answer := map[string]string{
				"version":  version,
				"go":       runtime.Version(),
				"platform": runtime.GOOS + "/" + runtime.GOARCH,
			}
			if cmd.String("output") == "table" {
				_, err := fmt.Fprintf(cmd.Root().Writer, "nexocumula %s (%s, %s)\n", version, answer["go"],
					answer["platform"])
				return err
			}
			return show(cmd, answer, grid{
				columns: []column{{name: "version"}, {name: "go"}, {name: "platform"}},
				rows:    [][]cell{{plain(version), plain(answer["go"]), plain(answer["platform"])}},
			})
		},
	}
}
