package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/span"
)

func sourceCommand() *cli.Command {
	return &cli.Command{
		Name: "source", Usage: "List the sources of a gateway, or make one read now",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List sources, with their state, counts and errors", Flags: []cli.Flag{atFlag, outputFlag},
				Action: listSources,
			},
			{
				Name: "read", Usage: "Make a source read its devices, or a group of registers, now", ArgsUsage: "SOURCE [GROUP]",
				Flags: []cli.Flag{atFlag, outputFlag}, Action: readSource,
			},
		},
	}
}

func listSources(ctx context.Context, cmd *cli.Command) error {
	health, err := ask(cmd).Health(ctx)
	if err != nil {
		return err
	}
	sources := []client.Source{}
	if health.Gateway != nil {
		sources = health.Gateway.Sources
	}
	return show(cmd, sources, sourceGrid(sources))
}

func sourceGrid(sources []client.Source) grid {
	g := grid{
		columns: []column{
			{name: "source"}, {name: "form"}, {name: "state"}, {name: "readings", right: true}, {name: "rejects", right: true}, {name: "ignored", right: true}, {name: "errors", right: true},
			{name: "line_busy", right: true}, {name: "answers_within", right: true}, {name: "late", right: true}, {name: "what_is_wrong", long: true},
		},
		empty: "This service has no sources; it is no gateway.",
	}
	for _, s := range sources {
		row := []cell{
			plain(s.Name), plain(s.Form), sourceState(s), count(s.Readings), count(s.Rejects), count(s.Ignored),
			count(s.Errors),
		}
		wrong := wrongInWords(s)
		for _, text := range wrong {
			g.notes = append(g.notes, s.Name+": "+text)
		}
		g.rows = append(g.rows, append(append(row, lineCells(s.Line)...), plain(strings.Join(wrong, "; "))))
	}
	return g
}

// sourceState says whether a source is down, or up and silent: connected, and nothing comes.
func sourceState(s client.Source) cell {
	if s.Up && s.Silent != nil {
		return forPeople("silent", "SILENT")
	}
	return yesNo(s.Up, "up", "DOWN")
}

func lineCells(l *client.Line) []cell {
	if l == nil {
		return []cell{plain(""), plain(""), plain("")}
	}
	var late []string
	for _, g := range l.Groups {
		when := "on demand"
		if g.Every > 0 {
			when = "every " + span.Format(time.Duration(g.Every*float64(time.Second)))
		}
		text := fmt.Sprintf("%s %s", when, ms(g.Late))
		if g.Skipped > 0 {
			text += fmt.Sprintf(", %d skipped", g.Skipped)
		}
		late = append(late, text)
	}
	return []cell{plain(fmt.Sprintf("%.0f %%", 100*l.Busy)), plain(ms(l.AnswerNearly)), plain(strings.Join(late, "; "))}
}

func ms(seconds float64) string {
	return time.Duration(seconds * float64(time.Second)).Round(100 * time.Microsecond).String()
}

// failuresTold is how long source list has a failure of a line after it last happened.
const failuresTold = time.Hour

// wrongInWords lists the faults of a source: missing units and registers first, then the faults of
// the last hour.
func wrongInWords(s client.Source) []string {
	out := slices.Clone(s.Absent)
	if !s.Up && s.LastError != "" {
		out = append(out, s.LastError)
	}
	if s.Up && s.Silent != nil {
		out = append(out,
			fmt.Sprintf("messages came regularly, and none has come since %s", s.Silent.UTC().Format(time.RFC3339)))
	}
	const most = 5
	for i, f := range slices.Backward(s.Faults) {
		if len(s.Faults)-i > most {
			out = append(out, fmt.Sprintf("and %d more", i+1))
			break
		}
		out = append(out, fmt.Sprintf("%s: %s (%d times)", f.Place, f.Message, f.Count))
	}
	if s.Line != nil {
		for _, f := range s.Line.Failures {
			if time.Since(f.LastAt) < failuresTold {
				out = append(out,
					fmt.Sprintf("%s: %d times, last at %s", f.What, f.Count, f.LastAt.UTC().Format(time.RFC3339)))
			}
		}
		out = append(out, s.Line.Learned...)
	}
	return out
}

func readSource(ctx context.Context, cmd *cli.Command) error {
	got, err := ask(cmd).ReadSource(ctx, cmd.Args().Get(0), cmd.Args().Get(1))
	if err != nil {
		return err
	}
	g := grid{columns: []column{
		{name: "readings", right: true}, {name: "rejects", right: true}, {name: "what_failed"},
	}}
	g.rows = append(g.rows,
		[]cell{count(got.Readings), count(got.Rejects), plain(strings.Join(got.Failed, "; "))})
	return show(cmd, got, g)
}
