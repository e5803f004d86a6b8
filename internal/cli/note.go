package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/request"
)

func noteCommand() *cli.Command {
	return &cli.Command{
		Name: "note", Usage: "List, add, send and delete notes",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List notes about what a selector names", ArgsUsage: "[SELECTOR]",
				Flags: []cli.Flag{atFlag, outputFlag, zoneFlag, lastFlag("all that is kept")}, Action: listNotes,
			},
			{
				Name: "add", Usage: "Pin a note to a site, a station or a series", ArgsUsage: "PLACE TEXT",
				Flags: []cli.Flag{
					atFlag, sayFlag,
					&cli.StringFlag{
						Name: "time", Usage: "time of the note, RFC 3339, such as 2026-03-01T08:00:00Z; default: now",
					},
				},
				Action: addNote,
			},
			{
				Name: "send", Usage: "Have the gateway of a note's site keep it, or its removal", ArgsUsage: "NOTE",
				Flags: []cli.Flag{atFlag, sayFlag, expiresFlag("1d")}, Action: sendNote,
			},
			{
				Name: "remove", Usage: "Delete a note", ArgsUsage: "NOTE", Flags: []cli.Flag{atFlag, sayFlag},
				Action: named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
					id, err := strconv.ParseUint(name, 10, 63)
					if err != nil {
						return nil, "", usage("%q is no number of a note; nexocumula note list shows them", name)
					}
					return nil, "The note was taken away; the audit keeps its text.", c.RemoveNote(ctx, id)
				}),
			},
		},
	}
}

// sendNote asks a gateway to keep a note, and waits for what comes of it.
func sendNote(ctx context.Context, cmd *cli.Command) error {
	id, err := strconv.ParseUint(cmd.Args().First(), 10, 63)
	if err != nil {
		return usage("%q is no number of a note; nexocumula note list shows them", cmd.Args().First())
	}
	by := ask(cmd)
	made, err := by.AskGateways(ctx, client.NewRequest{Kind: request.Notes, Note: id, Expires: cmd.String("expires")})
	if err == nil {
		made, err = await(ctx, by, made, aside(cmd))
	}
	if err == nil {
		err = notDone(made)
	}
	if err != nil {
		return err
	}
	return say(cmd, made.Requests[0], "The gateway of "+made.Requests[0].Site+" has the note.")
}

func listNotes(ctx context.Context, cmd *cli.Command) error {
	found, err := ask(cmd).Notes(ctx, selectorArg(cmd), cmd.String("last"))
	if err != nil {
		return err
	}
	g := grid{
		columns: []column{{name: "id", right: true}, {name: "at"}, {name: "about"}, {name: "text"}, {name: "author"}},
		empty:   "No note is about this; nexocumula note add PLACE TEXT pins one.",
	}
	for _, n := range found.Notes {
		g.rows = append(g.rows, []cell{
			count(n.ID), moment(n.At), plain(n.About), forPeople(n.Text, strings.ReplaceAll(n.Text, "\n", " ")),
			plain(n.Author),
		})
	}
	return show(cmd, found, g)
}

func addNote(ctx context.Context, cmd *cli.Command) error {
	n := client.NewNote{About: cmd.Args().Get(0), Text: cmd.Args().Get(1)}
	if text := cmd.String("time"); text != "" {
		t, err := time.Parse(time.RFC3339, text)
		if err != nil {
			return usage("--time %q: write one such as 2026-03-01T08:00:00Z", text)
		}
		n.At = &t
	}
	made, err := ask(cmd).AddNote(ctx, n)
	if err != nil {
		return err
	}
	return say(cmd, made, fmt.Sprintf("Note %d is pinned to %s at %s.", made.ID, made.About,
		made.At.UTC().Format(time.RFC3339)))
}
