package cli

import (
	"cmp"
	"context"
	"encoding/hex"
	"fmt"
	"strconv"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/window"
)

var rejectFlags = []cli.Flag{
	&cli.StringFlag{Name: "source", Usage: "name of the source"},
	&cli.StringFlag{Name: "rule", Usage: "name of the rule, such as range, change, unreadable or a screen's name"},
	&cli.StringFlag{Name: "select", Usage: "selector of series"},
}

func rejectCommand() *cli.Command {
	return &cli.Command{
		Name: "reject", Usage: "List, show and replay rejected readings and messages",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List rejected readings and messages, newest first",
				Flags:  append([]cli.Flag{atFlag, outputFlag, zoneFlag, limitFlag(20)}, rejectFlags...),
				Action: listRejects,
			},
			{
				Name: "show", Usage: "Show everything that is known of a reject", ArgsUsage: "REJECT",
				Flags: []cli.Flag{atFlag, outputFlag}, Action: showReject,
			},
			{
				Name: "count", Usage: "Count rejects by hour, source and rule",
				Flags: []cli.Flag{atFlag, outputFlag, zoneFlag, lastFlag("24h")}, Action: countRejects,
			},
			{
				Name: "replay", Usage: "Process rejects again, after their rule or source was corrected",
				ArgsUsage: "[REJECT ...]",
				Flags: append([]cli.Flag{
					atFlag, outputFlag, limitFlag(0), &cli.BoolFlag{Name: "all", Usage: "all rejects that are kept and do not count yet"},
				}, rejectFlags...),
				Action: replay,
			},
		},
	}
}

func listRejects(ctx context.Context, cmd *cli.Command) error {
	answer, err := ask(cmd).Rejects(ctx, client.RejectFilter{
		Source: cmd.String("source"),
		Rule:   cmd.String("rule"),
		Select: cmd.String("select"),
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
			plain(r.Rule), plain(reasonOf(r)), forPeople(hex.EncodeToString(r.Raw), readable(r.Raw)),
		})
	}
	return show(cmd, answer, g)
}

func reasonOf(r client.Reject) string {
	if r.ReplayedAt != nil {
		return "counts since " + r.ReplayedAt.Format(time.RFC3339) + "; it was: " + r.Reason
	}
	return r.Reason
}

func rejectNumber(text string) (uint64, error) {
	id, err := strconv.ParseUint(text, 10, 63)
	if err != nil {
		return 0, usage("%q is no number of a reject; nexocumula reject list shows them", text)
	}
	return id, nil
}

func showReject(ctx context.Context, cmd *cli.Command) error {
	id, err := rejectNumber(cmd.Args().First())
	if err != nil {
		return err
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

func countRejects(ctx context.Context, cmd *cli.Command) error {
	last, err := window.ParseStep(cmp.Or(cmd.String("last"), "24h"))
	if err != nil {
		return usage("--last: %v", err)
	}
	now := time.Now()
	answer, err := ask(cmd).RejectCounts(ctx, last.From(now.UTC(), -1), now)
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

func replay(ctx context.Context, cmd *cli.Command) error {
	want := client.Replay{
		Source: cmd.String("source"),
		Rule:   cmd.String("rule"),
		Select: cmd.String("select"),
		Limit:  cmd.Int("limit"),
	}
	for _, text := range cmd.Args().Slice() {
		id, err := rejectNumber(text)
		if err != nil {
			return err
		}
		want.IDs = append(want.IDs, id)
	}
	if len(want.IDs) == 0 && want.Source+want.Rule+want.Select == "" && !cmd.Bool("all") {
		return usage("say which rejects: their numbers, or --source, --rule, --select, or --all")
	}
	out, err := ask(cmd).Replay(ctx, want)
	if err != nil {
		return err
	}
	count := fmt.Sprintf("with %d readings; their windows are being made again.", out.Readings)
	g := grid{
		columns: []column{{name: "number", right: true}, {name: "still_refused"}},
		empty:   fmt.Sprintf("All %d count now, %s", out.Passed, count),
		notes:   []string{fmt.Sprintf("%d of %d rejects count now, %s", out.Passed, out.Looked, count)},
	}
	if out.Looked == 0 {
		g.empty = "There are no such rejects that do not count yet."
	}
	for _, r := range out.Refused {
		g.rows = append(g.rows, []cell{plain(strconv.FormatUint(r.ID, 10)), plain(r.Reason)})
	}
	return show(cmd, out, g)
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
