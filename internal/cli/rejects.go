package cli

import (
	"context"
	"encoding/hex"
	"unicode"
	"unicode/utf8"

	"github.com/urfave/cli/v3"
)

func rejectsCommand() *cli.Command {
	return &cli.Command{
		Name: "rejects", Usage: "readings and messages that were refused, newest first, with what arrived",
		Flags: []cli.Flag{
			atFlag, outputFlag,
			&cli.StringFlag{Name: "source", Usage: "only of this source"},
			&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many, up to 1000"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			answer, err := ask(cmd).Rejects(ctx, cmd.String("source"), cmd.Int("limit"))
			if err != nil {
				return err
			}
			g := grid{
				columns: []column{{name: "time"}, {name: "source"}, {name: "place"}, {name: "reason"}, {name: "raw"}},
				empty:   "Nothing was refused.",
			}
			for _, r := range answer.Rejects {
				g.rows = append(g.rows, []cell{moment(r.Time), plain(r.Source), plain(r.Place), plain(r.Reason), {hex.EncodeToString(r.Raw), readable(r.Raw)}})
			}
			return show(cmd, answer, g)
		},
	}
}

// readable is raw bytes as text when they are text, otherwise in hexadecimal.
func readable(raw []byte) string {
	const most = 48
	text := string(raw)
	if !utf8.ValidString(text) {
		text = "0x" + hex.EncodeToString(raw)
	}
	for _, r := range text {
		if !unicode.IsPrint(r) && r != '\n' && r != '\t' {
			text = "0x" + hex.EncodeToString(raw)
			break
		}
	}
	if len([]rune(text)) > most {
		return string([]rune(text)[:most]) + "…"
	}
	return text
}
