package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"
)

// changing are the commands that change something at a service. They say which one: somebody may have meant another.
var changing = []string{
	"reload", "read", "replay", "import", "notes add", "notes remove", "boards import", "boards remove", "user add", "user change", "user remove", "user code", "user logout",
	"token add", "token revoke", "enrol", "enrol revoke",
}

// sayWhere has a command that changes something say at which service it did, beside its answer.
func sayWhere(c *cli.Command, name string) {
	act := c.Action
	if act == nil || !slices.Contains(changing, name) {
		return
	}
	c.Action = func(ctx context.Context, cmd *cli.Command) error {
		if err := act(ctx, cmd); err != nil {
			return err
		}
		site := ""
		if health, err := ask(cmd).Health(ctx); err == nil { // else the address alone says it
			site = " (" + health.Site + ")"
		}
		fmt.Fprintf(cmd.Root().ErrWriter, "Done at %s%s.\n", cmd.String(atFlag.Name), site)
		return nil
	}
}
