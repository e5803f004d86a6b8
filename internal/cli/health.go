package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/span"
)

func healthCommand() *cli.Command {
	return &cli.Command{
		Name:  "health",
		Usage: "Say how a service stands, and end with exit code 1 when it has a trouble",
		Description: "For people, scripts and monitoring: 0 all is well, 1 the service has troubles, which are listed, 3 it cannot be reached,\n" +
			"4 a login is needed.",
		Flags: []cli.Flag{atFlag, sayFlag},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			answer, err := ask(cmd).Health(ctx)
			if err != nil {
				return err
			}
			if err := say(cmd, answer, healthText(answer, time.Now())); err != nil {
				return err
			}
			switch n := len(answer.Troubles); {
			case answer.Status == "ok":
				return nil
			case n == 1:
				return fmt.Errorf("%s has a trouble", answer.Site)
			default:
				return fmt.Errorf("%s has %d troubles", answer.Site, n)
			}
		},
	}
}

func healthText(h client.Health, now time.Time) string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s: %s, version %s, running for %s, %d series", h.Status, h.Site, h.Version,
		span.Format(now.Sub(h.Started).Round(time.Second)), h.Series)
	if h.Gateway != nil {
		up := 0
		for _, s := range h.Gateway.Sources {
			if s.Up {
				up++
			}
		}
		fmt.Fprintf(&out, "; %d of %d sources up, %d readings on disk, %d refused since the start", up, len(h.Gateway.Sources), h.Gateway.Accepted,
			h.Gateway.Rejected)
	}
	if h.Central != nil {
		fmt.Fprintf(&out, "; %d gateways", len(h.Central.Gateways))
	}
	for _, text := range h.Troubles {
		fmt.Fprintf(&out, "\n  %s", text)
	}
	return out.String()
}
