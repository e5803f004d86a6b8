package cli

import (
	"context"
	"fmt"
	"runtime"

	"github.com/urfave/cli/v3"
)

func versionCommand(version string) *cli.Command {
	return &cli.Command{
		Name: "version", Usage: "Print the version", Flags: []cli.Flag{sayFlag},
		Action: func(_ context.Context, cmd *cli.Command) error {
			answer := map[string]string{
				"version":  version,
				"go":       runtime.Version(),
				"platform": runtime.GOOS + "/" + runtime.GOARCH,
			}
			return say(cmd, answer, versionLine(version))
		},
	}
}

func versionLine(version string) string {
	return fmt.Sprintf("nexocumula %s (%s, %s/%s)", version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
}
