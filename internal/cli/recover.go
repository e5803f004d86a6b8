package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/access"
	"nexocumula/internal/config"
	"nexocumula/internal/kinds"
)

func recoverCommand() *cli.Command {
	return &cli.Command{
		Name: "recover", Usage: "Make a code for an administrator's account, on the service's machine",
		Description: "Run it on the service's machine, as the account the service runs as. The code makes a new administrator, or sets the\n" +
			"password of the given account and removes its other factors. The service may be running.",
		Flags: []cli.Flag{configFlag(), credentialsFlag(), sayFlag},
		Action: func(_ context.Context, cmd *cli.Command) error {
			settings, err := config.Load(cmd.String("config"), kinds.All)
			if err != nil {
				return err
			}
			a := settings.Access
			code, err := access.Recover(settings.Data, access.Options{
				Now:   time.Now,
				Log:   logger(cmd),
				Idle:  a.Idle,
				Ends:  a.Ends,
				Audit: a.Audit,
			})
			if err != nil {
				return err
			}
			return say(cmd, map[string]string{"code": code},
				fmt.Sprintf("Code, for one use, good for 24 hours:\n\n  %s\n\nUse it at the console, or with nexocumula login --code --account NAME.",
					code))
		},
	}
}
