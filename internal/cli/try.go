package cli

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/api"
	"nexocumula/internal/config"
	"nexocumula/internal/gateway"
	"nexocumula/internal/kinds"
)

func tryCommand() *cli.Command {
	return &cli.Command{
		Name: "try", Usage: "Process one payload or registers without storing anything, and show each step",
		ArgsUsage: "[SOURCE PLACE [PAYLOAD]]",
		Description: "PLACE is a topic, or registers such as 'unit 1, holding 0'. PAYLOAD is text; for registers, their words, such as\n" +
			"'1012 0x3A7F 0'. Without --config a running gateway processes it, which also knows earlier readings.",
		Flags: []cli.Flag{
			atFlag, outputFlag,
			&cli.StringFlag{
				Name:    "config",
				Aliases: []string{"c"},
				Usage:   "configuration of the service",
			},
			&cli.StringFlag{Name: "file", Usage: "file with the payload; - reads standard input"},
			&cli.StringFlag{Name: "hex", Usage: "payload in hexadecimal"},
			&cli.Uint64Flag{Name: "reject", Usage: "number of a reject whose source, place and payload to use"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			source, place, raw, err := tried(ctx, cmd)
			if err != nil {
				return err
			}
			out, err := tryIt(ctx, cmd, source, place, raw)
			if err != nil {
				return err
			}
			return show(cmd, out, trialGrid(out))
		},
	}
}

// tried returns the message or registers to try, from the command line.
func tried(ctx context.Context, cmd *cli.Command) (source, place string, raw []byte, err error) {
	args := cmd.Args().Slice()
	if id := cmd.Uint64("reject"); id != 0 {
		if len(args) > 0 {
			return "", "", nil, usage("--reject says source, place and payload; give no others")
		}
		r, err := ask(cmd).Reject(ctx, id)
		return r.Source, r.Place, r.Raw, err
	}
	if len(args) < 2 {
		return "", "", nil, usage("say which source and where, or which --reject")
	}
	var given [][]byte
	if len(args) == 3 {
		text := []byte(args[2])
		if strings.HasPrefix(args[1], "unit ") {
			if text, err = words(args[2]); err != nil {
				return "", "", nil, err
			}
		}
		given = append(given, text)
	}
	if name := cmd.String("file"); name != "" {
		text, err := contentOf(cmd, name)
		if err != nil {
			return "", "", nil, err
		}
		given = append(given, text)
	}
	if text := cmd.String("hex"); text != "" {
		bytes, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
		if err != nil {
			return "", "", nil, usage("--hex: %v", err)
		}
		given = append(given, bytes)
	}
	if len(given) != 1 {
		return "", "", nil, usage("give the payload once: as PAYLOAD, with --file or with --hex")
	}
	return args[0], args[1], given[0], nil
}

// words are registers, each a number of 16 bits.
func words(text string) (out []byte, err error) {
	for _, one := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' }) {
		n, err := strconv.ParseInt(one, 0, 32)
		if err != nil || n < -1<<15 || n >= 1<<16 {
			return nil, usage("%q is no register: write numbers of 16 bits, such as 1012 or 0x3F4", one)
		}
		out = append(out, byte(n>>8), byte(n))
	}
	return out, nil
}

func tryIt(ctx context.Context, cmd *cli.Command, source, place string, raw []byte) (client.Trial, error) {
	file := cmd.String("config")
	if file == "" {
		return ask(cmd).Try(ctx, source, client.Try{Place: place, Raw: raw})
	}
	settings, err := config.Load(file, kinds.All)
	if err != nil {
		return client.Trial{}, err
	}
	if settings.Gateway == nil {
		return client.Trial{}, usage("%s describes no gateway", file)
	}
	got, err := gateway.Try(*settings.Gateway, source, place, raw, time.Now())
	var none gateway.NoSuch
	if errors.As(err, &none) {
		return client.Trial{}, usage("no source that can be tried is called %q in %s; there is %s", source, file,
			strings.Join(none.Names, ", "))
	}
	return api.Trial(got), err
}

func trialGrid(out client.Trial) grid {
	g := grid{
		columns: []column{
			{name: "series"}, {name: "time"}, {name: "read", right: true}, {name: "calibrated", right: true},
			{name: "unit"}, {name: "outcome"}, {name: "rule"}, {name: "reason"}, {name: "windows"},
		},
		empty: "Nothing came of it.",
	}
	for _, t := range out.Readings {
		read, value := number(t.Raw), stateOr(t.State, t.Value)
		if t.Text != "" {
			read = plain(t.Text)
		}
		if t.RawUnit != "" {
			read.people += " " + t.RawUnit
		}
		if slices.Contains([]string{"unit", "state", "calibration", "number", "series"}, t.Rule) {
			value = forPeople("", "–") // it did not come that far
		}
		outcome := t.Outcome
		if t.Outcome != "rejected" && t.Standing != "normal" {
			outcome += ", " + t.Standing
		}
		var windows []string
		for _, w := range t.Windows {
			windows = append(windows, w.Tier+" from "+w.Start.Format("15:04:05Z"))
		}
		g.rows = append(g.rows, []cell{
			plain(t.Series), moment(t.Time), read, value, plain(t.Unit), plain(outcome), plain(t.Rule),
			plain(t.Reason), plain(strings.Join(windows, ", ")),
		})
		if note := fmt.Sprintf("%s is calibrated: %s", t.Series, t.Calibration); t.Calibration != "" &&
			!slices.Contains(g.notes, note) {
			g.notes = append(g.notes, note)
		}
		if note := fmt.Sprintf("%s is thinned (%s): its summaries are of all readings; whether this one is kept shows once those after it are known",
			t.Series, t.Thinning); t.Thinning != "" && !slices.Contains(g.notes, note) {
			g.notes = append(g.notes, note)
		}
	}
	for _, r := range out.Rejects {
		g.rows = append(g.rows, []cell{
			forPeople("", "–"), moment(r.Time), forPeople("", "–"), forPeople("", "–"), plain(""), plain("rejected"), plain(r.Rule),
			plain(r.Reason), plain(""),
		})
	}
	return g
}
