package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/span"
	"nexocumula/internal/fieldwork"
	"nexocumula/internal/gateway/mqtt"
	texts "nexocumula/internal/plain"
	"nexocumula/internal/secret"
)

func watchCommand() *cli.Command {
	return &cli.Command{
		Name: "watch", Usage: "List the topics of a broker or a gateway's listener, with rate, size, last value and likely meaning",
		ArgsUsage:   "ADDRESS | SOURCE",
		Description: "ADDRESS is a broker's, such as tcp://127.0.0.1:1883 or tls://broker:8883. SOURCE is one of a running gateway.",
		Flags: []cli.Flag{
			atFlag, outputFlag,
			&cli.StringFlag{Name: "topics", Value: "#", Usage: "topic filter"},
			&cli.StringFlag{Name: "for", Value: "10s", Usage: "how long it takes"},
			&cli.BoolFlag{
				Name: "lines", Usage: "configuration lines that would collect the topics, instead of the topics",
			},
			&cli.StringFlag{Name: "source-name", Value: "broker", Usage: "name of the source in printed configuration lines"},
			appendToFlag,
			writeFlag,
			&cli.StringFlag{Name: "user", Usage: "account at the broker"},
			&cli.StringFlag{Name: "secret-file", Usage: "file with the password of the other end"},
			&cli.StringFlag{Name: "ca", Usage: "PEM file of the authority of a tls:// broker"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			now, err := watched(ctx, cmd)
			if err != nil {
				return err
			}
			if cmd.Bool("lines") || cmd.String("append-to") != "" {
				return printLines(cmd, now)
			}
			if drawsLive(cmd) {
				fmt.Fprint(texts.Bare(cmd.Root().Writer), clearScreen)
			}
			return show(cmd, now, watchGrid(now))
		},
	}
}

const clearScreen = "\x1b[H\x1b[2J" // ECMA-48: to the top, and clear

// drawsLive reports whether the tree is drawn anew every second, for people who look on.
func drawsLive(cmd *cli.Command) bool {
	return cmd.String("output") == "table" && !cmd.Bool("lines") && cmd.String("append-to") == "" &&
		isTerminal(cmd.Root().Writer)
}

// watched returns the topics seen by the end of the watch.
func watched(ctx context.Context, cmd *cli.Command) (last client.Watched, err error) {
	length, err := span.Parse(cmd.String("for"))
	if err != nil || length < time.Second || length > time.Hour {
		return last, usage("--for: use 1s to 1h")
	}
	ctx, stop := context.WithTimeout(ctx, length+500*time.Millisecond)
	defer stop()
	of := cmd.Args().First()
	keep := func(now client.Watched) error {
		if last = now; drawsLive(cmd) {
			fmt.Fprint(cmd.Root().Writer, clearScreen)
			return watchGrid(now).table(cmd.Root().Writer)
		}
		return nil
	}
	if strings.Contains(of, "://") {
		at := mqtt.BrokerAddress{Address: of, User: cmd.String("user"), CA: cmd.String("ca")}
		if file := cmd.String("secret-file"); file != "" {
			if at.Password, err = readSecret(file); err != nil {
				return last, err
			}
		}
		err = fieldwork.Watch(ctx, nil, fieldwork.Watching{BrokerAddress: at, Topics: cmd.String("topics")}, keep)
	} else {
		err = ask(cmd).Watch(ctx, of, "", cmd.String("topics"), keep)
	}
	if ctx.Err() != nil && last.Topics != nil {
		err = nil // its time was over
	}
	return last, err
}

func readSecret(file string) (string, error) {
	if err := secret.OnlyOwner(file); err != nil {
		return "", err
	}
	text, err := os.ReadFile(file)
	return strings.TrimSpace(string(text)), err
}

func watchGrid(now client.Watched) grid {
	g := grid{
		columns: []column{
			{name: "topic"}, {name: "messages", right: true}, {name: "per_second", right: true},
			{name: "bytes", right: true}, {name: "last"}, {name: "seems"},
		},
		empty: "Nothing was published.",
	}
	var above []string
	for _, t := range now.Topics {
		levels := strings.Split(t.Topic, "/")
		for i, level := range levels[:len(levels)-1] {
			if i < len(above) && above[i] == level {
				continue
			}
			above = append(above[:min(i, len(above))], level)
			g.rows = append(g.rows, []cell{
				forPeople("", strings.Repeat("  ", i)+level+"/"), plain(""), plain(""), plain(""), plain(""), plain(""),
			})
		}
		above = above[:len(levels)-1]
		seems := t.Seems
		if t.Retained {
			seems += "; kept by the broker"
		}
		g.rows = append(g.rows, []cell{
			forPeople(t.Topic, strings.Repeat("  ", len(levels)-1)+levels[len(levels)-1]), count(t.Messages), number(client.Number(t.Rate)), number(client.Number(t.Bytes)),
			forPeople(string(t.Last), clip(readable(t.Last), 28)), plain(seems),
		})
	}
	g.scripts = func(row []cell) bool { return row[0].script != "" }
	if now.Lost > 0 {
		g.notes = append(g.notes,
			fmt.Sprintf("%d messages were of further topics, which are not shown; watch fewer with --topics.",
				now.Lost))
	}
	return g
}

func clip(text string, most int) string {
	if letters := []rune(text); len(letters) > most {
		return string(letters[:most-1]) + "…"
	}
	return text
}

// printLines prints the lines of a source, or what they change in a configuration.
func printLines(cmd *cli.Command, now client.Watched) error {
	want := client.LinesFor{Name: cmd.String("source-name")}
	for _, t := range now.Topics {
		want.Topics = append(want.Topics, client.LinesTopic{Topic: t.Topic, Last: t.Last, TopicNotice: t.TopicNotice})
	}
	if len(want.Topics) == 0 {
		return fmt.Errorf("nothing was published, so there are no lines to write; watch longer with --for")
	}
	if of := cmd.Args().First(); strings.Contains(of, "://") {
		want.Address = of
		if user := cmd.String("user"); user != "" {
			want.Address += fmt.Sprintf("\n    user: %s", user)
		}
		if file := cmd.String("secret-file"); file != "" {
			want.Address += fmt.Sprintf("\n    secret_file: %s", file)
		}
		if ca := cmd.String("ca"); ca != "" {
			want.Address += fmt.Sprintf("\n    tls: { ca: %q }", ca)
		}
	}
	lines, err := fieldwork.Lines(want)
	if err != nil {
		return wrongUsage(err)
	}
	return giveLines(cmd, lines)
}

// giveLines prints lines, or appends them to the configuration that the command line names.
func giveLines(cmd *cli.Command, lines client.Lines) error {
	out := cmd.Root().Writer
	for _, one := range lines.Skipped {
		fmt.Fprintf(cmd.Root().ErrWriter, "left out: %s\n", one)
	}
	file := cmd.String("append-to")
	if file == "" {
		if lines.Rules != "" {
			fmt.Fprintf(out, "# below gateway: series:\n%s", lines.Rules)
		}
		if lines.Sources != "" {
			fmt.Fprintf(out, "# below gateway: sources:\n%s", lines.Sources)
		} else {
			fmt.Fprintf(out, "# below the address of the source:\n%s", lines.Below)
		}
		return nil
	}
	if lines.Sources == "" {
		return usage("lines are appended for a new source; put these below the address of the one there is, by hand:\n%s",
			lines.Below)
	}
	done, err := fieldwork.Append(file, client.Append{
		Sources: lines.Sources,
		Rules:   lines.Rules,
		Write:   cmd.Bool("write"),
	}, nil, "")
	if err != nil {
		return wrongUsage(err)
	}
	tellAppended(cmd, file, done)
	return nil
}

// tellAppended shows what lines change in a configuration, or changed.
func tellAppended(cmd *cli.Command, file string, done client.Appended) {
	out := cmd.Root().Writer
	fmt.Fprint(out, done.Difference)
	if done.Written {
		fmt.Fprintf(out, "\nwritten to %s; nexocumula reload makes a running gateway read it\n", file)
	} else {
		fmt.Fprint(out, "\nnothing is written yet; --write does it\n")
	}
}
