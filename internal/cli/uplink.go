package cli

import (
	"context"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"nexocumula/client"
)

func uplinkCommand() *cli.Command {
	return &cli.Command{
		Name: "uplink", Usage: "List links of replication",
		Commands: []*cli.Command{{
			Name: "list", Usage: "List links of replication, with backlogs and acknowledgements",
			Flags: []cli.Flag{atFlag, outputFlag, zoneFlag},
			Action: func(ctx context.Context, cmd *cli.Command) error {
				answer, err := ask(cmd).Uplinks(ctx)
				if err != nil {
					return err
				}
				return show(cmd, answer, uplinkGrid(answer, time.Now()))
			},
		}},
	}
}

func uplinkGrid(answer client.Uplinks, now time.Time) grid {
	g := grid{
		columns: []column{
			{name: "direction"}, {name: "link"}, {name: "state"}, {name: "backlog", right: true}, {name: "waiting_since"},
			{name: "acknowledged", right: true}, {name: "last_acknowledgement"}, {name: "last_error", long: true},
		},
		empty: "This service neither sends to a central nor receives from gateways.",
	}
	for _, s := range answer.Sending {
		state := yesNo(s.Up, "up", "DOWN")
		if !s.Up && s.LastError != "" {
			g.notes = append(g.notes, s.Name+": "+s.LastError)
		}
		if s.Twin != "" {
			g.notes = append(g.notes, s.Name+": "+s.Twin)
		}
		for _, r := range s.Refused {
			g.notes = append(g.notes,
				fmt.Sprintf("%s: the central refuses %s, %d summaries wait: %s", s.Name, r.Path, r.Rows, r.Reason))
		}
		if s.GivenUp > 0 {
			g.notes = append(g.notes,
				fmt.Sprintf("%s: %d summaries were given up before they could be sent", s.Name, s.GivenUp))
		}
		if s.Arrived < 1 && s.Up {
			g.notes = append(g.notes, s.Name+": "+catchingUp(s.Arrived, s.CaughtUpAt, now))
		}
		if s.BytesToday > 0 {
			left := ""
			if s.BytesLeft != nil {
				left = fmt.Sprintf("; %s may still go today", humanize.Bytes(*s.BytesLeft))
			}
			g.notes = append(g.notes, fmt.Sprintf("%s: %s today and %s this month crossed the link%s", s.Name, humanize.Bytes(s.BytesToday), humanize.Bytes(s.BytesMonth), left))
		}
		if len(s.Above) > 1 {
			g.notes = append(g.notes, s.Name+": goes on to "+strings.Join(s.Above[1:], ", "))
		}
		if s.Reconciled != nil {
			g.notes = append(g.notes, fmt.Sprintf("%s: compared %s ago, %s", s.Name, age(now.Sub(s.Reconciled.At)), s.Reconciled.Text))
		}
		g.rows = append(g.rows, []cell{
			plain("to"), plain(s.Name + " " + s.Address), state, count(s.BacklogRows), momentOr(s.BacklogSince, "–"),
			count(s.AckedRows), momentOr(s.AckedAt, "never"), plain(s.LastError),
		})
	}
	for _, r := range answer.Receiving {
		if r.Arrived < 1 && r.Up {
			g.notes = append(g.notes, r.Gateway+": "+catchingUp(r.Arrived, r.CaughtUpAt, now))
		}
		if len(r.Below) > 0 {
			g.notes = append(g.notes, r.Gateway+": gets from "+belowText(r.Below))
		}
		if r.LastError != "" {
			g.notes = append(g.notes, r.Gateway+": "+r.LastError)
		}
		if r.Twin != "" {
			g.notes = append(g.notes, r.Gateway+": "+r.Twin)
		}
		state, backlog := yesNo(r.Up, "up", "DOWN"), count(r.BacklogRows)
		if !r.Up {
			backlog.people = "not known"
		}
		if !r.Up && r.HeardAt != nil {
			state.people = fmt.Sprintf("DOWN, heard %s ago", age(now.Sub(*r.HeardAt)))
		}
		g.rows = append(g.rows, []cell{
			plain("from"), plain(r.Gateway), state, backlog, momentOr(r.BacklogSince, "–"),
			count(r.StoredRows), momentOr(r.StoredAt, "never"), plain(r.LastError),
		})
	}
	return g
}

// catchingUp says how much of what waited has arrived, and when the rest will have.
func catchingUp(arrived float64, done *time.Time, now time.Time) string {
	text := fmt.Sprintf("%.0f %% of what waited has arrived", math.Floor(100*arrived))
	if done != nil && done.After(now) {
		text += ", the rest in about " + age(done.Sub(now))
	}
	return text
}

// belowText says who sends to a central, and who to these.
func belowText(all []client.Below) string {
	var out []string
	for _, b := range all {
		text := b.Name
		if !b.Up {
			text += " (DOWN)"
		}
		if len(b.Below) > 0 {
			text += " (from " + belowText(b.Below) + ")"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}
