package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/request"
)

func fetchCommand() *cli.Command {
	return &cli.Command{
		Name: "fetch", Usage: "Bring readings from gateways to their central, for a while", ArgsUsage: "SELECTOR",
		Flags: []cli.Flag{
			atFlag, outputFlag, fromFlag, toFlag, zoneFlag,
			&cli.StringFlag{Name: "keep-for", Usage: "how long they stay at the central, such as 7d", Value: "7d"},
			expiresFlag("1d"),
			&cli.BoolFlag{Name: "no-wait", Usage: "do not wait until they are here"},
			&cli.DurationFlag{Name: "live-for", Usage: "instead of --to: print readings as they are made, for at most 10m"},
		},
		Description: "Each gateway sends them beside what is live. Once they are here, nexocumula readings shows them, and windows of that time " +
			"have exact percentiles and any width. The uplink of the gateway has to allow requests of kind readings, as it does unless told otherwise.",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 1 {
				return usage("name the series: nexocumula fetch SELECTOR --from TIME --to TIME")
			}
			var from, to time.Time
			if err := timeFlags(cmd, map[string]*time.Time{"from": &from, "to": &to}); err != nil {
				return err
			}
			if live := cmd.Duration("live-for"); cmd.IsSet("live-for") {
				return followLive(ctx, cmd, from, live)
			}
			if to.IsZero() {
				to = time.Now()
			}
			if from.IsZero() {
				return usage("say from when: --from TIME")
			}
			by := ask(cmd)
			made, err := by.AskGateways(ctx, client.NewRequest{
				Kind: request.Readings, Select: cmd.Args().First(), From: &from, To: &to, Keep: cmd.String("keep-for"), Expires: cmd.String("expires"),
			})
			if err != nil {
				return err
			}
			if cmd.Bool("no-wait") {
				return show(cmd, made, requestsGrid(made, ""))
			}
			if made, err = await(ctx, by, made, aside(cmd)); err != nil {
				return err
			}
			g := fetchedGrid(made)
			if err := show(cmd, made, g); err != nil {
				return err
			}
			return notDone(made)
		},
	}
}

// await waits until requests are over, and tells how far they have come.
func await(ctx context.Context, by *client.Client, made client.Requests, progress io.Writer) (client.Requests, error) {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	told := map[string]string{}
	for {
		over := true
		for i, r := range made.Requests {
			if r.Over() {
				continue
			}
			now, err := by.Request(ctx, r.ID)
			if err != nil {
				return made, err
			}
			made.Requests[i] = now
			over = over && now.Over()
			if text := fmt.Sprintf("%s: %s, %3.0f %%  %s", now.Site, now.State, 100*now.Progress, now.Detail); told[r.ID] != text {
				told[r.ID] = text
				fmt.Fprintln(progress, text)
			}
		}
		if over {
			return made, nil
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return made, ctx.Err()
		}
	}
}

// notDone returns an error that names the requests that were not carried out.
func notDone(made client.Requests) error {
	var not []string
	for _, r := range made.Requests {
		if r.State != string(request.Done) {
			not = append(not, fmt.Sprintf("%s: %s: %s", r.Site, r.State, r.Detail))
		}
	}
	if len(not) == 0 {
		return nil
	}
	return fmt.Errorf("not all was done: %s", strings.Join(not, "; "))
}

func fetchedGrid(made client.Requests) grid {
	g := grid{
		columns: []column{{name: "series"}, {name: "from"}, {name: "to"}, {name: "readings", right: true}},
		empty:   "No readings came.",
	}
	for _, r := range made.Requests {
		var answer request.ReadingsAnswer
		if json.Unmarshal(r.Answer, &answer) != nil {
			continue
		}
		for _, s := range answer.Series {
			g.rows = append(g.rows, []cell{plain(string(s.Path)), moment(s.From), moment(s.To), count(s.Readings)})
		}
	}
	return g
}
