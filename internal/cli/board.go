package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
)

func boardCommand() *cli.Command {
	return &cli.Command{
		Name: "board", Usage: "List, export, import and delete saved pages of the console",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List boards, or those with all these words in their title or place", ArgsUsage: "[WORD ...]",
				Flags: []cli.Flag{atFlag, outputFlag, zoneFlag}, Action: listBoards,
			},
			{
				Name: "export", Usage: "Write a board as JSON, by its number or by its site or station", ArgsUsage: "BOARD | PLACE",
				Flags: []cli.Flag{
					atFlag,
					&cli.IntFlag{Name: "of-version", Usage: "version, as history lists them; default: the current one"},
				},
				Action: exportBoard,
			},
			{
				Name: "import", Usage: "Save a board from a JSON file, or from standard input with -", ArgsUsage: "FILE",
				Flags: []cli.Flag{
					atFlag, sayFlag,
					&cli.IntFlag{
						Name: "over", Usage: "number of the board that gets a new version; default: a new board",
					},
				},
				Action: importBoard,
			},
			{
				Name: "history", Usage: "List the versions of a board", ArgsUsage: "BOARD",
				Flags: []cli.Flag{atFlag, outputFlag, zoneFlag},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					id, err := boardNumber(cmd.Args().First())
					if err != nil {
						return err
					}
					found, err := ask(cmd).BoardHistory(ctx, id)
					if err != nil {
						return err
					}
					return show(cmd, found, boardsGrid(found, "There is no version."))
				},
			},
			{
				Name: "remove", Usage: "Delete a board; it can be restored for 90 days", ArgsUsage: "BOARD",
				Flags: []cli.Flag{atFlag, sayFlag},
				Action: named(func(ctx context.Context, c *client.Client, name string) (any, string, error) {
					id, err := boardNumber(name)
					if err != nil {
						return nil, "", err
					}
					return nil, "The board was taken away; for 90 days `board export --of-version` and `board import --over` bring it back.",
						c.RemoveBoard(ctx, id)
				}),
			},
		},
	}
}

func boardNumber(text string) (uint64, error) {
	id, err := strconv.ParseUint(text, 10, 63)
	if err != nil {
		return 0, usage("%q is no number of a board; nexocumula board list shows them", text)
	}
	return id, nil
}

func listBoards(ctx context.Context, cmd *cli.Command) error {
	found, err := ask(cmd).Boards(ctx, strings.Join(cmd.Args().Slice(), " "))
	if err != nil {
		return err
	}
	return show(cmd, found, boardsGrid(found, "No board has that in its title or place."))
}

func boardsGrid(found client.Boards, empty string) grid {
	g := grid{
		columns: []column{
			{name: "id", right: true}, {name: "title"}, {name: "about"}, {name: "asks for"},
			{name: "version", right: true}, {name: "saved"}, {name: "by"},
		},
		empty: empty,
	}
	for _, b := range found.Boards {
		id, version := count(b.ID), count(b.Version)
		if b.Standard {
			id, version = forPeople("", "–"), forPeople("", "–")
		}
		saved := momentOr(b.SavedAt, "from the start")
		if b.Removed {
			saved.people += ", taken away"
		}
		g.rows = append(g.rows, []cell{
			id, plain(b.Title), plain(b.About), plain(b.Asks), version, saved, plain(b.Author),
		})
	}
	return g
}

func exportBoard(ctx context.Context, cmd *cli.Command) error {
	name := cmd.Args().First()
	var found client.SavedBoard
	id, err := strconv.ParseUint(name, 10, 63)
	if err == nil {
		found, err = ask(cmd).Board(ctx, id, cmd.Int("of-version"))
	} else {
		found, err = ask(cmd).StandardBoard(ctx, name)
	}
	if err != nil {
		return err
	}
	enc := json.NewEncoder(cmd.Root().Writer)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(found.Board)
}

const largestBoardFile = 1 << 20

func importBoard(ctx context.Context, cmd *cli.Command) error {
	path := cmd.Args().First()
	from, err := opened(cmd, path)
	if err != nil {
		return usageError{err, nil}
	}
	defer from.Close()
	text, err := io.ReadAll(io.LimitReader(from, largestBoardFile))
	if err != nil {
		return fmt.Errorf("reading %s: %w", path, err)
	}
	var b client.Board
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&b); err != nil {
		return usage("%s is no board: %v; /api/board.schema.json says what one is like", path, err)
	}
	c := ask(cmd)
	saved := client.BoardVersion{}
	if over := cmd.Int("over"); over > 0 {
		history, err := c.BoardHistory(ctx, uint64(over))
		if err != nil {
			return err
		}
		saved, err = c.ChangeBoard(ctx, uint64(over), history.Boards[0].Version, b)
		if err != nil {
			return err
		}
	} else if saved, err = c.AddBoard(ctx, b); err != nil {
		return err
	}
	return say(cmd, saved, fmt.Sprintf("Board %d, version %d: %s", saved.ID, saved.Version, saved.Title))
}
