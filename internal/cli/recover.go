package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/access"
	"nexocumula/internal/config"
	"nexocumula/internal/gateway"
)

func recoverCommand() *cli.Command {
	return &cli.Command{
		Name: "recover", Usage: "make a code for an administrator's account, for whoever has the right to the service's files",
		Description: "Run it on the machine of the service, as the account that the service runs as. The code makes a new administrator,\n" +
			"or sets the password of the account it is given for and takes its other factors away. The service may be running.",
		Flags: []cli.Flag{configFlag, verboseFlag},
		Action: func(_ context.Context, cmd *cli.Command) error {
			settings, err := config.Load(cmd.String("config"), gateway.Kinds)
			if err != nil {
				return err
			}
			a := settings.Access
			code, err := access.Recover(settings.Data, access.Options{Now: time.Now, Log: newLogger(cmd.Root().ErrWriter, false), Idle: a.Idle, Ends: a.Ends, Audit: a.Audit})
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.Root().Writer, "Code, for one use, good for 24 hours:\n\n  %s\n\nUse it at the console, or with nexocumula login --code --account NAME.\n", code)
			return nil
		},
	}
}
