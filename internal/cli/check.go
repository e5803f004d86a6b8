package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/gateway"
)

func checkCommand() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "check configurations without starting anything",
		ArgsUsage: "FILE ...",
		Action: func(_ context.Context, cmd *cli.Command) error {
			if !cmd.Args().Present() {
				return usage("name the files to check: nexocumula check FILE ...")
			}
			var problems shape.Problems
			for _, path := range cmd.Args().Slice() {
				settings, err := config.Load(path, gateway.Kinds)
				if found, ok := err.(shape.Problems); ok {
					problems = append(problems, found...)
				} else if err != nil {
					return err
				} else {
					fmt.Fprintf(cmd.Root().Writer, "%s: good: %s\n", path, describe(settings))
				}
			}
			if len(problems) > 0 {
				return fmt.Errorf("%d problem(s) found\n%w", len(problems), problems)
			}
			return nil
		},
	}
}

func describe(s config.Settings) string {
	text := "HTTP at " + s.Listen
	if s.Gateway != nil {
		text = fmt.Sprintf("gateway of %s with %d source(s) and %d uplink(s), ", s.Gateway.Site, len(s.Gateway.Sources), len(s.Gateway.Uplinks)) + text
	}
	if s.Central != nil {
		text = fmt.Sprintf("central for %d gateway(s), ", len(s.Central.Accept)) + text
	}
	return text
}
