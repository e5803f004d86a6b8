package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"
)

// changing are the commands that change something at a service. They say which one: somebody may have meant another.
var changing = []string{
	"reload", "source read", "reject replay", "import", "note add", "note remove", "board import", "board remove",
	"user add", "user change", "user remove", "user code", "user logout", "token add", "token remove",
	"gateway add", "gateway remove",
}

// sayWhere has a command that changes something say at which service, before its answer and beside it.
func sayWhere(c *cli.Command, name string) {
	act := c.Action
	if act == nil || !slices.Contains(changing, name) {
		return
	}
	c.Action = func(ctx context.Context, cmd *cli.Command) error {
		if health, err := ask(cmd).Health(ctx); err == nil { // else the command says what is wrong
			fmt.Fprintf(aside(cmd), "At %s (%s):\n", serviceAt(cmd), health.Site)
		}
		return act(ctx, cmd)
	}
}
