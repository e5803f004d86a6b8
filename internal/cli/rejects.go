package cli

import (
	"context"
	"encoding/hex"
	"fmt"
	"strconv"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/span"
)

var rejectFlags = []cli.Flag{
	&cli.StringFlag{Name: "source", Usage: "name of the source"},
	&cli.StringFlag{Name: "rule", Usage: "name of the rule, such as range, change, unreadable or a screen's name"},
	&cli.StringFlag{Name: "series", Usage: "selector of series"},
}

func rejectsCommand() *cli.Command {
	return &cli.Command{
		Name: "rejects", Usage: "List rejected readings and messages, newest first, or show one in full",
		ArgsUsage: "[NUMBER]",
		Flags: append([]cli.Flag{
			atFlag, outputFlag,
			&cli.IntFlag{Name: "limit", Value: 20, Usage: "number of rejects, up to 1000"},
			&cli.StringFlag{
				Name:  "counts",
				Usage: "length of a range up to now, such as 24h, to count rejects in by hour, source and rule",
			},
		}, rejectFlags...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			switch {
			case cmd.Args().Present():
				return oneReject(ctx, cmd)
			case cmd.String("counts") != "":
				return rejectCounts(ctx, cmd)
			}
			answer, err := ask(cmd).Rejects(ctx, client.RejectFilter{
				Source: cmd.String("source"),
				Rule:   cmd.String("rule"),
				Select: cmd.String("series"),
				Limit:  cmd.Int("limit"),
			})
			if err != nil {
				return err
			}
			g := grid{
				columns: []column{
					{name: "number", right: true}, {name: "time"}, {name: "source"}, {name: "place"}, {name: "rule"},
					{name: "reason"}, {name: "raw"},
				},
				empty: "Nothing was refused.",
			}
			for _, r := range answer.Rejects {
				g.rows = append(g.rows, []cell{
					plain(strconv.FormatUint(r.ID, 10)), moment(r.Time), plain(r.Source), plain(r.Place),
					plain(r.Rule), plain(reasonOf(r)), {hex.EncodeToString(r.Raw), readable(r.Raw)},
				})
			}
			return show(cmd, answer, g)
		},
	}
}

func reasonOf(r client.Reject) string {
	if r.ReplayedAt != nil {
		return "counts since " + r.ReplayedAt.Format(time.RFC3339) + "; it was: " + r.Reason
	}
	return r.Reason
}

// oneReject shows everything that is known of a reject.
func oneReject(ctx context.Context, cmd *cli.Command) error {
	id, err := strconv.ParseUint(cmd.Args().First(), 10, 63)
	if err != nil {
		return usage("%q is no number of a reject; nexocumula rejects lists them", cmd.Args().First())
	}
	r, err := ask(cmd).Reject(ctx, id)
	if err != nil {
		return err
	}
	g := grid{columns: []column{{name: "what"}, {name: "is"}}}
	add := func(name, text string) {
		if text != "" {
			g.rows = append(g.rows, []cell{plain(name), plain(text)})
		}
	}
	add("refused", r.Time.Format(time.RFC3339Nano))
	add("source", r.Source)
	add("place", r.Place)
	add("rule", r.Rule)
	add("reason", r.Reason)
	add("series", r.Series)
	if r.Series != "" {
		value := r.Text
		if value == "" {
			value = number(r.Value).script
		}
		add("value as read", value+" "+r.Unit)
		add("time of the reading", r.ReadingTime.Format(time.RFC3339Nano))
	}
	add("bytes", strconv.Itoa(len(r.Raw)))
	add("hexadecimal", hex.EncodeToString(r.Raw))
	if utf8.Valid(r.Raw) {
		add("text", string(r.Raw))
	}
	if r.ReplayedAt != nil {
		add("counts since", r.ReplayedAt.Format(time.RFC3339))
	}
	return show(cmd, r, g)
}

func rejectCounts(ctx context.Context, cmd *cli.Command) error {
	last, err := span.Parse(cmd.String("counts"))
	if err != nil {
		return usage("--counts: %v", err)
	}
	now := time.Now()
	answer, err := ask(cmd).RejectCounts(ctx, now.Add(-last), now)
	if err != nil {
		return err
	}
	g := grid{
		columns: []column{{name: "hour"}, {name: "source"}, {name: "rule"}, {name: "count", right: true}},
		empty:   "Nothing was refused.",
	}
	for _, n := range answer.Counts {
		g.rows = append(g.rows, []cell{
			moment(n.Hour), plain(n.Source), plain(n.Rule), plain(strconv.FormatInt(n.Count, 10)),
		})
	}
	return show(cmd, answer, g)
}

func replayCommand() *cli.Command {
	return &cli.Command{
		Name: "replay", Usage: "Process rejects again, after their rule or source was corrected",
		ArgsUsage: "[NUMBER ...]",
		Flags: append([]cli.Flag{
			atFlag, outputFlag,
			&cli.IntFlag{
				Name: "limit", Usage: "number of rejects at most, the newest ones; default: all that are kept",
			},
			&cli.BoolFlag{Name: "all", Usage: "all rejects that are kept and do not count yet"},
		}, rejectFlags...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			want := client.Replay{
				Source: cmd.String("source"),
				Rule:   cmd.String("rule"),
				Select: cmd.String("series"),
				Limit:  cmd.Int("limit"),
			}
			for _, text := range cmd.Args().Slice() {
				id, err := strconv.ParseUint(text, 10, 63)
				if err != nil {
					return usage("%q is no number of a reject; nexocumula rejects lists them", text)
				}
				want.IDs = append(want.IDs, id)
			}
			if len(want.IDs) == 0 && want.Source+want.Rule+want.Select == "" && !cmd.Bool("all") {
				return usage("say which rejects: their numbers, or --source, --rule, --series, or --all")
			}
			out, err := ask(cmd).Replay(ctx, want)
			if err != nil {
				return err
			}
			g := grid{
				columns: []column{{name: "number", right: true}, {name: "still_refused"}},
				empty: fmt.Sprintf("All %d count now, with %d readings; their windows are being made again.",
					out.Passed, out.Readings),
				notes: []string{fmt.Sprintf("%d of %d rejects count now, with %d readings; their windows are being made again.",
					out.Passed, out.Looked, out.Readings)},
			}
			if out.Looked == 0 {
				g.empty = "There are no such rejects that do not count yet."
			}
			for _, r := range out.Refused {
				g.rows = append(g.rows, []cell{plain(strconv.FormatUint(r.ID, 10)), plain(r.Reason)})
			}
			return show(cmd, out, g)
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
