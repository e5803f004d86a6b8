package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
)

func boardsCommand() *cli.Command {
	return &cli.Command{
		Name: "boards", Usage: "List, export, import and delete saved pages of the console", ArgsUsage: "[WORDS]",
		Flags:  []cli.Flag{atFlag, outputFlag},
		Action: listBoards,
		Commands: []*cli.Command{
			{
				Name: "export", Usage: "Write a board as JSON, by its number or by its site or station", ArgsUsage: "ID|PLACE",
				Flags: []cli.Flag{
					atFlag,
					&cli.IntFlag{Name: "version", Usage: "version, as history lists them; default: the current one"},
				},
				Action: exportBoard,
			},
			{
				Name: "import", Usage: "Save a board from a JSON file, or from standard input with -", ArgsUsage: "FILE",
				Flags: []cli.Flag{
					atFlag,
					&cli.IntFlag{
						Name: "over", Usage: "number of the board that gets a new version; default: a new board",
					},
				},
				Action: importBoard,
			},
			{
				Name: "history", Usage: "List the versions of a board", ArgsUsage: "ID", Flags: []cli.Flag{atFlag, outputFlag},
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
			{Name: "remove", Usage: "Delete a board; it can be restored for 90 days", ArgsUsage: "ID", Flags: []cli.Flag{atFlag}, Action: named(func(ctx context.Context, c *client.Client, name string) (string, error) {
				id, err := boardNumber(name)
				if err != nil {
					return "", err
				}
				return "The board was taken away; for 90 days `boards export --version` and `boards import --over` bring it back.", c.RemoveBoard(ctx,
					id)
			})},
		},
	}
}

func boardNumber(text string) (uint64, error) {
	id, err := strconv.ParseUint(text, 10, 63)
	if err != nil {
		return 0, usage("%q is no number of a board; nexocumula boards lists them", text)
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
			id, version = cell{"", "–"}, cell{"", "–"}
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
	if cmd.Args().Len() != 1 {
		return usage("say which board: its number, or a site or station, such as nexocumula boards export stony-beck/raceway-4")
	}
	var found client.SavedBoard
	id, err := strconv.ParseUint(name, 10, 63)
	if err == nil {
		found, err = ask(cmd).Board(ctx, id, cmd.Int("version"))
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
	if cmd.Args().Len() != 1 {
		return usage("say which file: nexocumula boards import night.json")
	}
	from := io.Reader(os.Stdin)
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return usage("%v", err)
		}
		defer f.Close()
		from = f
	}
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
		saved, err = c.ChangeBoard(ctx, uint64(over), client.BoardChange{Board: b, Change: history.Boards[0].Version})
		if err != nil {
			return err
		}
	} else if saved, err = c.AddBoard(ctx, b); err != nil {
		return err
	}
	_, err = fmt.Fprintf(cmd.Root().Writer, "Board %d, version %d: %s\n", saved.ID, saved.Version, saved.Title)
	return err
}
