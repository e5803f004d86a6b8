package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"nexocumula/client"
)

func windowsCommand() *cli.Command {
	return &cli.Command{
		Name: "windows", Usage: "stats of series over windows of a range, and on a terminal a chart", ArgsUsage: "SELECTOR",
		Description: "nexocumula windows stony-beck/raceway-4/oxygen --last 24h --width 1h --stats mean,min,max",
		Flags: []cli.Flag{
			atFlag, outputFlag,
			&cli.StringFlag{Name: "last", Usage: "length of the range up to now, such as 24h or 7d; 1h when no range is given"},
			&cli.StringFlag{Name: "from", Usage: "begin of the range, RFC 3339"},
			&cli.StringFlag{Name: "to", Usage: "end of the range, RFC 3339, not included; now when missing"},
			&cli.StringFlag{Name: "width", Usage: "width of a window, such as 15m; one that fits when missing"},
			&cli.StringFlag{Name: "stats", Value: "mean,min,max,count,coverage", Usage: "some of count, mean, min, max, range, sd, sum, first, last, coverage"},
			&cli.StringFlag{Name: "gaps", Value: "leave", Usage: "a window without data: leave, carry, join or a number"},
			&cli.StringFlag{Name: "chart", Value: "auto", Usage: "auto (on a terminal), always or never"},
		},
		Action: windows,
	}
}

func windows(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() != 1 {
		return usage("name the series: nexocumula windows SELECTOR, such as stony-beck/+/oxygen")
	}
	q := client.WindowsQuery{
		Select: selectorArg(cmd), Last: cmd.String("last"), Width: cmd.String("width"), Gaps: cmd.String("gaps"),
		Stats: strings.Split(cmd.String("stats"), ","),
	}
	var err error
	if q.From, err = timeFlag(cmd, "from"); err != nil {
		return err
	}
	if q.To, err = timeFlag(cmd, "to"); err != nil {
		return err
	}
	answer, err := ask(cmd).Windows(ctx, q)
	if err != nil {
		return err
	}
	if err := show(cmd, answer, windowsGrid(answer)); err != nil {
		return err
	}
	if cmd.String("output") != "table" {
		return nil
	}
	if wanted, err := chartWanted(cmd); err != nil || !wanted {
		return err
	}
	return drawCharts(cmd.Root().Writer, answer)
}

func timeFlag(cmd *cli.Command, name string) (time.Time, error) {
	text := cmd.String(name)
	if text == "" {
		return time.Time{}, nil
	}
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return t, usage("--%s %q is not an RFC 3339 time such as 2026-03-01T08:00:00Z", name, text)
	}
	return t, nil
}

func windowsGrid(answer client.Windows) grid {
	g := grid{columns: []column{{name: "series"}, {name: "start"}}, empty: "No data in this range."}
	for _, stat := range answer.Stats {
		g.columns = append(g.columns, column{name: stat, right: true})
	}
	g.columns = append(g.columns, column{name: "unit"}, column{name: "filled"}, column{name: "tier"})
	for _, s := range answer.Series {
		first := len(g.rows)
		for i, start := range s.Starts {
			row := []cell{plain(s.Path), moment(start)}
			for _, stat := range answer.Stats {
				v := number(s.Values[stat][i])
				if stat == "coverage" {
					v = share(s.Values[stat][i])
				}
				row = append(row, v)
			}
			g.rows = append(g.rows, append(row, plain(s.Unit), yesNo(s.Filled[i], "filled", ""), plain(s.Tier)))
		}
		for c := range answer.Stats {
			sameDecimals(g.rows[first:], 2+c)
		}
	}
	return g
}

func chartWanted(cmd *cli.Command) (bool, error) {
	switch mode := cmd.String("chart"); mode {
	case "always":
		return true, nil
	case "never":
		return false, nil
	case "auto":
		f, ok := cmd.Root().Writer.(*os.File)
		return ok && term.IsTerminal(int(f.Fd())), nil
	default:
		return false, usage("--chart %q: use auto, always or never", mode)
	}
}

// drawCharts draws the first few series.
func drawCharts(out interface{ Write([]byte) (int, error) }, answer client.Windows) error {
	const most = 4
	for i, s := range answer.Series {
		if i == most {
			_, err := fmt.Fprintf(out, "\n%d more series are not drawn.\n", len(answer.Series)-most)
			return err
		}
		if text := chart(answer, s); text != "" {
			if _, err := fmt.Fprintf(out, "\n%s\n", text); err != nil {
				return err
			}
		}
	}
	return nil
}
