package cli

import (
	"context"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"nexocumula/client"
)

func windowsCommand() *cli.Command {
	text := func(name, usage string) cli.Flag { return &cli.StringFlag{Name: name, Usage: usage} }
	return &cli.Command{
		Name: "windows", Usage: "stats of series over windows of a range, and on a terminal a chart", ArgsUsage: "[SELECTOR]",
		Description: "nexocumula windows stony-beck/raceway-4/oxygen --last 24h --width 1h --stats mean,min,max\n" +
			"nexocumula windows 'long-mere/#' --range yesterday --zone Europe/Lisbon --width 1d --hours 22:00-06:00\n" +
			"nexocumula windows --input in=stony-beck/inlet/flow --input out=stony-beck/outlet/flow --calc loss=in-out",
		Flags: []cli.Flag{
			atFlag, outputFlag, labelFlag,
			text("last", "length of the range up to now, such as 24h, 7d or 1mo; 1h when no range is given"),
			text("range", "today, yesterday, this week, this month or this year"),
			text("from", "begin of the range, RFC 3339"),
			text("to", "end of the range, RFC 3339, not included; now when missing"),
			text("zone", "IANA name of the zone whose clocks and calendar count, such as Europe/Lisbon; UTC when missing"),
			text("width", "width of a window: 15m, 1d, 1w, 1mo, 1y, or whole for the range as one; one that fits when missing"),
			text("stride", "from one window's begin to the next's, if that is not the width"),
			text("origin", "a time at which a window begins, RFC 3339"),
			text("hours", "only these hours of each day, such as 08:00-20:00 or 22:00-06:00"),
			text("days", "only these days of the week, such as mon-fri or sat,sun"),
			&cli.IntFlag{Name: "newest", Usage: "only so many windows, the last ones"},
			&cli.StringFlag{Name: "stats", Usage: "some of count, mean, twa, min, max, range, sd, sum, first, last, difference, slope, increase, rate, restarts, changes, duration:STATE, share:STATE, steadiness, coverage, min_at, max_at, first_at, last_at, percentiles such as p95 (from readings) and p95~ (from sketches, within 1 %); mean,min,max,count,coverage when missing"},
			&cli.StringFlag{Name: "gaps", Value: "leave", Usage: "a window without data: leave, carry, carry:30m, join or a number"},
			text("unit", "convert values to this unit, such as K"),
			text("shift", "the same windows so much earlier, side by side, such as 1d"),
			text("across", "one row of many series: their mean, sum, min or max"),
			text("by", "with across, a row for each level:1, level:2 … or label:KEY"),
			&cli.StringSliceFlag{Name: "input", Usage: "NAME=PATH or NAME=PATH@STAT: a series for calculations, instead of SELECTOR"},
			&cli.StringSliceFlag{Name: "calc", Usage: "NAME=FORMULA over the inputs, such as loss=in-out"},
			&cli.StringFlag{Name: "chart", Value: "auto", Usage: "auto (on a terminal), always or never"},
		},
		Action: windows,
	}
}

func windows(ctx context.Context, cmd *cli.Command) error {
	inputs := cmd.StringSlice("input")
	if named := cmd.Args().Len(); len(inputs) == 0 && named != 1 || len(inputs) > 0 && named > 0 {
		return usage("name the series: nexocumula windows SELECTOR, such as stony-beck/+/oxygen; or give --input and --calc instead")
	}
	q := client.WindowsQuery{
		Select: selectorArg(cmd), Labels: cmd.StringSlice("label"), Last: cmd.String("last"), Range: cmd.String("range"), Zone: cmd.String("zone"),
		Width: cmd.String("width"), Stride: cmd.String("stride"), Hours: cmd.String("hours"), Days: cmd.String("days"), Newest: cmd.Int("newest"),
		Gaps: cmd.String("gaps"), Unit: cmd.String("unit"), Shift: cmd.String("shift"), Across: cmd.String("across"), By: cmd.String("by"),
		Inputs: inputs, Calculations: cmd.StringSlice("calc"),
	}
	if stats := cmd.String("stats"); stats != "" {
		q.Stats = strings.Split(stats, ",")
	}
	for name, to := range map[string]*time.Time{"from": &q.From, "to": &q.To, "origin": &q.Origin} {
		var err error
		if *to, err = timeFlag(cmd, name); err != nil {
			return err
		}
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

// windowsGrid has a row for each series and window of which something is known.
func windowsGrid(answer client.Windows) grid {
	g := grid{columns: []column{{name: "series"}, {name: "start"}}, empty: "No data in this range."}
	stats := shownStats(answer)
	for _, stat := range stats {
		g.columns = append(g.columns, column{name: stat, right: true})
	}
	g.columns = append(g.columns, column{name: "unit"}, column{name: "filled"}, column{name: "tier"})
	shifted := slices.ContainsFunc(answer.Series, func(s client.SeriesWindows) bool { return s.Shift != "" })
	if shifted {
		g.columns = append(g.columns, column{name: "earlier"})
	}
	zone, err := time.LoadLocation(answer.Zone)
	if err != nil {
		zone = time.UTC // the service knows it, this machine does not
	}
	for _, s := range answer.Series {
		first := len(g.rows)
		for i, start := range answer.Starts {
			if s.Empty[i] {
				continue
			}
			row := []cell{plain(s.Name), momentIn(start, zone)}
			for _, stat := range stats {
				row = append(row, statCell(s, stat, i, zone))
			}
			filled := yesNo(s.Filled[i], "filled", "")
			if s.Open[i] && !s.Filled[i] {
				filled.people = "still open"
			}
			row = append(row, plain(s.Unit), filled, plain(s.Tier))
			if shifted {
				row = append(row, plain(s.Shift))
			}
			g.rows = append(g.rows, row)
		}
		for c, stat := range stats {
			if s.Times[stat] == nil {
				sameDecimals(g.rows[first:], 2+c)
			}
		}
	}
	return g
}

// shownStats are the answer's, and how many series a group has data of.
func shownStats(answer client.Windows) []string {
	stats := answer.Stats
	if len(answer.Series) > 0 && answer.Series[0].Values["contributing"] != nil {
		stats = append(slices.Clone(stats), "contributing")
	}
	return stats
}

func statCell(s client.SeriesWindows, stat string, i int, zone *time.Location) cell {
	if times, ok := s.Times[stat]; ok {
		if times[i] == nil {
			return cell{"", "–"}
		}
		return momentIn(*times[i], zone)
	}
	v := client.Number(math.NaN())
	if values := s.Values[stat]; i < len(values) {
		v = client.Number(values[i])
	}
	if math.IsNaN(float64(v)) {
		return cell{"", "–"}
	}
	if stat == "coverage" || stat == "steadiness" || strings.HasPrefix(stat, "share:") {
		return share(v)
	}
	return number(v)
}

// momentIn is a time by the clocks of a zone; scripts get UTC.
func momentIn(t time.Time, zone *time.Location) cell {
	c := moment(t)
	if zone != time.UTC {
		c.people = t.In(zone).Format("2006-01-02 15:04:05-07:00")
	}
	return c
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
