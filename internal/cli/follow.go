package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/request"
	texts "nexocumula/internal/plain"
)

const (
	lookForReadings = time.Second
	followForm      = "2006-01-02 15:04:05.000-07:00"
)

// followLive asks gateways for readings as they are made, and prints those that are later than what it printed of their series.
func followLive(ctx context.Context, cmd *cli.Command, from time.Time, live time.Duration) error {
	if cmd.IsSet("to") || cmd.IsSet("output") || cmd.Bool("no-wait") {
		return usage("--live-for ends that long from now and prints lines: leave out --to, --output and --no-wait")
	}
	zone, err := texts.Zone(cmd.String(zoneFlag.Name))
	if err != nil {
		return usage("--zone %v", err)
	}
	by := ask(cmd)
	asks := client.NewRequest{
		Kind: request.Readings, Select: cmd.Args().First(), Live: live.String(), Keep: cmd.String("keep-for"), Expires: cmd.String("expires"),
	}
	if !from.IsZero() {
		asks.From = &from
	}
	made, err := by.AskGateways(ctx, asks)
	if err != nil {
		return err
	}
	var what request.ReadingsBody
	if err := json.Unmarshal(made.Requests[0].Body, &what); err != nil {
		return err
	}
	printed := map[string]time.Time{} // of each series, the last
	told := map[string]string{}       // of each request, its state
	tick := time.NewTicker(lookForReadings)
	defer tick.Stop()
	for over := false; ; {
		answer, err := by.Readings(ctx, client.ReadingsQuery{Select: cmd.Args().First(), From: what.From, To: what.To})
		if err != nil {
			return unlessStopped(ctx, err)
		}
		for _, s := range answer.Series {
			for _, r := range s.Readings {
				if !r.Time.After(printed[s.Path]) {
					continue
				}
				printed[s.Path] = r.Time
				line := fmt.Sprintf("%s  %s  %v %s", r.Time.In(zone).Format(followForm), s.Path, float64(r.Value), s.Unit)
				fmt.Fprintln(cmd.Root().Writer, strings.TrimRight(line, " "))
			}
		}
		if over {
			return notDone(made)
		}
		if made, over, err = look(ctx, by, made); err != nil {
			return unlessStopped(ctx, err)
		}
		for _, r := range made.Requests {
			if told[r.ID] != r.State {
				told[r.ID] = r.State
				fmt.Fprintf(aside(cmd), "%s: %s\n", r.Site, r.State)
			}
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil // somebody has seen enough
		}
	}
}

// unlessStopped returns an error, but for that somebody stopped it.
func unlessStopped(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// look asks how far requests have come.
func look(ctx context.Context, by *client.Client, made client.Requests) (client.Requests, bool, error) {
	over := true
	for i, r := range made.Requests {
		now, err := by.Request(ctx, r.ID)
		if err != nil {
			return made, false, err
		}
		made.Requests[i] = now
		over = over && now.Over()
	}
	return made, over, nil
}
