package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/importer"
)

func importCommand() *cli.Command {
	return &cli.Command{
		Name:      "import",
		Usage:     "Import a file of history, CSV or SenML, into a gateway; resumes after an interruption",
		ArgsUsage: "FILE",
		Description: "A CSV line is one reading with the columns series, time, value and, optionally, unit; or several readings in\n" +
			"columns that --column and --rest describe. SenML packs follow one another. The gateway needs an http_push source,\n" +
			"and this command the token of one of its senders.",
		Flags: []cli.Flag{
			atFlag, outputFlag,
			&cli.IntFlag{
				Name:  "preview",
				Usage: "number of records to show as they would be read and, with a token, as the gateway would store them; stores nothing",
			},
			&cli.StringFlag{
				Name:  "topic",
				Usage: "topic as which the whole file is sent, in any form that the messages of the gateway's http_push source read",
			},
			&cli.StringFlag{Name: "time-column", Usage: "column of the time, by name or number; default: time"},
			&cli.StringFlag{
				Name:  "time-form",
				Usage: "form of the time: rfc3339, unix_s, unix_ms, unix_us, unix_ns, or a layout such as \"%d.%m.%Y %H:%M\"; default: rfc3339",
			},
			&cli.StringFlag{Name: "time-zone", Usage: "zone of times without one, such as Europe/Berlin; default: UTC"},
			&cli.StringFlag{Name: "series-column", Usage: "column of the series' name, without the site; default: series"},
			&cli.StringFlag{Name: "value-column", Usage: "column of the value; default: value"},
			&cli.StringFlag{Name: "unit-column", Usage: "column of the unit; default: unit, if there is one"},
			&cli.StringSliceFlag{Name: "column", Usage: "COLUMN=SERIES of a line with several readings; repeatable"},
			&cli.StringFlag{
				Name:  "rest",
				Usage: "series of all other columns, with {column} for the name, such as \"raceway-1/{column}\"",
			},
			&cli.StringFlag{Name: "separator", Usage: "separator of columns, such as ; or \\t; default: a comma"},
			&cli.BoolFlag{Name: "decimal-comma", Usage: "decimal comma in numbers"},
			&cli.BoolFlag{Name: "no-header", Usage: "no line of column names; columns are numbers"},
			&cli.IntFlag{
				Name:  "most-per-second",
				Value: 20000,
				Usage: "readings per second at most; 0: as many as the gateway accepts",
			},
			&cli.StringFlag{Name: "progress", Usage: "file that keeps the progress; default: FILE.progress"},
			&cli.BoolFlag{Name: "again", Usage: "start from the beginning; existing readings are skipped"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			file, columns := cmd.Args().First(), columnsOf(cmd)
			if topic := cmd.String("topic"); topic != "" {
				return importMessage(ctx, cmd, file, topic)
			}
			if file == stdin {
				return usage("an import goes on after an interruption, so it needs a file; with --topic, - is standard input")
			}
			if n := cmd.Int("preview"); n > 0 {
				return preview(ctx, cmd, file, columns, n)
			}
			token, err := tokenOf(cmd)
			if err != nil {
				return err
			}
			told := &telling{to: cmd.Root().ErrWriter, progress: aside(cmd)}
			p, err := importer.Job{
				File: file, Columns: columns, Progress: cmd.String("progress"), Again: cmd.Bool("again"), Token: token,
				Rate: cmd.Int("most-per-second"), To: ask(cmd), Tell: told.report,
			}.Run(ctx)
			if err != nil {
				return fmt.Errorf("%w\n%d readings were accepted and %d refused of %d records; the same command goes on from there",
					err, p.Accepted, p.Refused, p.Records)
			}
			if told.parts == 0 {
				return usage("%s was brought in full before: %d readings accepted, %d refused; --again begins anew, and doubles nothing",
					file, p.Accepted, p.Refused)
			}
			if err := say(cmd, imported{p.Records, p.Accepted, p.Refused}, fmt.Sprintf(
				"%d readings of %d records are on the gateway's disk; %d were refused", p.Accepted, p.Records, p.Refused)); err != nil {
				return err
			}
			if p.Refused > 0 {
				return fmt.Errorf("%d readings were refused; those that reached the gateway are in nexocumula reject list",
					p.Refused)
			}
			return nil
		},
	}
}

// imported is what an import came to.
type imported struct {
	Records  int `json:"records"`
	Accepted int `json:"accepted"`
	Refused  int `json:"refused"`
}

// importMessage sends a file as one message. With --preview it shows what the gateway would make of it.
func importMessage(ctx context.Context, cmd *cli.Command, file, topic string) error {
	token, err := tokenOf(cmd)
	if err != nil {
		return err
	}
	body, err := opened(cmd, file)
	if err != nil {
		return err
	}
	defer body.Close()
	most := cmd.Int("preview")
	answer, err := ask(cmd).PushMessage(ctx, token, topic, most > 0, body)
	if refusal, ok := errors.AsType[*client.Error](err); ok && refusal.Code == "refused" {
		err = nil // the answer names the rows
	}
	if err != nil {
		return err
	}
	if most > 0 {
		g := grid{
			columns: []column{{name: "series"}, {name: "time"}, {name: "value", right: true}, {name: "unit"}},
			empty:   "Nothing of it would be stored.",
		}
		for _, p := range answer.Previews[:min(most, len(answer.Previews))] {
			value := number(p.Value)
			if p.State != "" {
				value = plain(p.State)
			}
			g.rows = append(g.rows,
				[]cell{plain(p.Series), plain(p.Time.Format(time.RFC3339Nano)), value, plain(p.Unit)})
		}
		for _, r := range answer.Rows {
			g.notes = append(g.notes, "refused: "+r.Reason)
		}
		g.notes = append(g.notes,
			fmt.Sprintf("%d readings would be stored, and %d refused.", answer.Accepted, answer.Refused))
		return show(cmd, answer, g)
	}
	if err := say(cmd, answer, fmt.Sprintf("%d readings are on the gateway's disk; %d were refused", answer.Accepted,
		answer.Refused)); err != nil {
		return err
	}
	for _, r := range answer.Rows {
		fmt.Fprintln(cmd.Root().ErrWriter, r.Reason)
	}
	if answer.Refused > 0 {
		return fmt.Errorf("%d readings were refused; they are in nexocumula reject list", answer.Refused)
	}
	return nil
}

func columnsOf(cmd *cli.Command) importer.Columns {
	return importer.Columns{
		Separator: cmd.String("separator"), NoHeader: cmd.Bool("no-header"), Time: cmd.String("time-column"), TimeForm: cmd.String("time-form"), TimeZone: cmd.String("time-zone"),
		Series: cmd.String("series-column"), Value: cmd.String("value-column"), Unit: cmd.String("unit-column"), Wide: cmd.StringSlice("column"), Rest: cmd.String("rest"), Comma: cmd.Bool("decimal-comma"),
	}
}

func tokenOf(cmd *cli.Command) (string, error) {
	if file := cmd.String(tokenFlag.Name); file != "" {
		return tokenIn(file)
	}
	if token := os.Getenv("NEXOCUMULA_TOKEN"); token != "" {
		return token, nil
	}
	return "", usage("give the token of a sender of the gateway's http_push source: --token-file FILE, or NEXOCUMULA_TOKEN in the environment")
}

// shown is a row as a preview shows it.
type shown struct {
	Place   string     `json:"place"`
	Series  string     `json:"series"`
	Time    *time.Time `json:"time"`
	Value   string     `json:"value"`
	Unit    string     `json:"unit"`
	Refused string     `json:"refused"`
}

// preview shows the first rows of a file: with a token, as the gateway would store them.
func preview(ctx context.Context, cmd *cli.Command, file string, columns importer.Columns, n int) error {
	rows, err := importer.Preview(file, columns, n)
	if err != nil {
		return err
	}
	g := grid{
		columns: []column{
			{name: "place"}, {name: "series"}, {name: "time"}, {name: "value", right: true}, {name: "unit"},
			{name: "refused"},
		},
		empty: "The file has no records.",
	}
	var becomes map[string][]client.PreviewedRow
	var refused map[string]string
	if token, err := tokenOf(cmd); err != nil {
		g.notes = append(g.notes,
			"This is how the file is read. What the gateway would make of it, and refuse, is shown with the token of a sender: --token-file FILE.")
	} else if becomes, refused, err = importer.Ask(ctx, ask(cmd), token, rows); err != nil {
		return err
	}
	var answer []shown
	for _, r := range rows {
		one := shown{Place: r.Place, Series: r.Series, Value: r.Value, Unit: r.Unit, Refused: refused[r.Key()]}
		if r.Err != nil {
			one.Refused = r.Err.Error()
		} else {
			at := r.Time.UTC()
			one.Time = &at
		}
		if stored := becomes[r.Key()]; len(stored) > 0 {
			one.Series, one.Value, one.Unit = stored[0].Series, number(stored[0].Value).script, stored[0].Unit
			if stored[0].State != "" {
				one.Value = stored[0].State
			}
		}
		answer = append(answer, one)
		when := plain("")
		if one.Time != nil {
			when = plain(one.Time.Format(time.RFC3339Nano))
		}
		g.rows = append(g.rows, []cell{
			plain(one.Place), plain(one.Series), when, plain(one.Value), plain(one.Unit), plain(one.Refused),
		})
	}
	return show(cmd, answer, g)
}

// telling writes how an import goes, and the first rows that are refused.
type telling struct {
	to, progress io.Writer
	parts        int
	wrong        int
	last         time.Time
}

const mostWrongTold = 20

func (t *telling) report(r importer.Report) {
	t.parts++
	for _, row := range r.Wrong {
		if t.wrong++; t.wrong <= mostWrongTold {
			fmt.Fprintf(t.to, "%s: %s\n", row.Place, row.Reason)
		} else if t.wrong == mostWrongTold+1 {
			fmt.Fprintln(t.to, "more rows are refused; they are counted")
		}
	}
	if !r.Finished && time.Since(t.last) < time.Second {
		return
	}
	t.last = time.Now()
	fmt.Fprintf(t.progress, "%3.0f %%  %d readings accepted, %d refused\n", 100*float64(r.Read)/float64(max(r.Size, 1)),
		r.Accepted, r.Refused)
}
