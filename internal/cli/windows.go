package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/window"
	texts "nexocumula/internal/plain"
)

// rangeFlags say which time a query is about; windows and readings share them.
func rangeFlags() []cli.Flag {
	return []cli.Flag{
		lastFlag("1h, if no range is given"), calendarFlag, fromFlag, toFlag, zoneFlag,
	}
}

var (
	calendarFlag = &cli.StringFlag{
		Name:  "range",
		Usage: "range of the calendar: today, yesterday, or this or last week, month or year, such as 'last week'",
	}
	fromFlag = &cli.StringFlag{
		Name: "from", Usage: "start of the range: a date, a date and a time by the clocks of --zone, or RFC 3339",
	}
	toFlag = &cli.StringFlag{Name: "to", Usage: "end of the range, excluded; default: now"}
)

func windowsCommand() *cli.Command {
	text := func(name, usage string) cli.Flag { return &cli.StringFlag{Name: name, Usage: usage} }
	list := func(name, usage string) cli.Flag { return &cli.StringSliceFlag{Name: name, Usage: usage} }
	number := func(name, usage string) cli.Flag { return &cli.IntFlag{Name: name, Usage: usage} }
	return &cli.Command{
		Name: "windows", Usage: "Query stats of series over windows of a range, with a chart on a terminal", ArgsUsage: "[SELECTOR ...]",
		Flags: slices.Concat([]cli.Flag{atFlag, tableFlag, labelFlag}, rangeFlags(), []cli.Flag{
			text("width",
				"width of a window: 15m, 1d, 1w, 1mo, 1y, or whole for the range as one; default: one that fits"),
			text("stride", "time from one window's start to the next one's; default: the width"),
			text("origin", "time at which a window begins"),
			&cli.BoolFlag{Name: "by-clock", Usage: "windows by the zone's clocks, from midnight on"},
			text("edges", "first and last window: whole (may reach beyond the range) or clipped (end with it)"),
			text("hours", "hours of each day that count, such as 08:00-20:00, 22:00-06:00 or 06:00-09:00,17:00-22:00"),
			text("weekdays", "days of the week that count, such as mon-fri or sat,sun"),
			list("except", "dates that do not count, such as 2026-12-24 or 2026-12-27..2026-12-31; repeatable"),
			text("except-file", "file with dates that do not count, one per line; comments begin with #"),
			text("fold", "day, week or year: combine windows at the same place in it, as in the mean day"),
			number("newest", "number of windows, the last ones"),
			text("stats", "stats, separated by commas: "+window.Names()+"; default: mean,min,max,count,coverage"),
			&cli.StringFlag{
				Name:  "gaps",
				Value: "leave",
				Usage: "windows without data: leave, carry, carry:30m, join or a number",
			},
			list("unit", "unit to convert to, such as K, or STAT=UNIT for one stat, such as rate=kW; repeatable"),
			text("shift", "distance of earlier windows to show beside these, such as 1d"),
			text("across", "combine series into one row: mean, sum, min, max, sd, count, or a percentile such as p90"),
			text("weight", "with --across, label:KEY whose number is the weight of a series"),
			text("by", "with --across or --calc, a row for each level:1, level:2 … or label:KEY"),
			number("highest", "number of series with the highest stat over the whole range"),
			number("lowest", "number of series with the lowest stat over the whole range"),
			text("rank", "stat that --highest and --lowest compare; default: the first"),
			text("then", "stats of each stat over its windows: mean, min, max, sum, sd, count, p50"),
			list("input",
				"series for calculations, instead of SELECTOR: NAME=SELECTOR or NAME=SELECTOR@STAT; repeatable"),
			list("calc",
				"formula over inputs and earlier calculations: NAME=FORMULA, such as loss=inlet-outlet; repeatable"),
			&cli.BoolFlag{
				Name:  "wide",
				Usage: "CSV with a row per window and a column per series and stat; times by the zone's clocks and in UTC",
			},
			&cli.BoolFlag{Name: "explain", Usage: "what was read for each series, and why not less"},
			&cli.StringFlag{Name: "chart", Value: "auto", Usage: "chart: auto (on a terminal), always or never"},
		}),
		Action: windows,
	}
}

func windows(ctx context.Context, cmd *cli.Command) error {
	inputs := cmd.StringSlice("input")
	if named := cmd.Args().Len(); len(inputs) == 0 && named == 0 || len(inputs) > 0 && named > 0 {
		return usage("name the series: nexocumula windows SELECTOR, such as stony-beck/+/oxygen, or several; or give --input and --calc instead")
	}
	q := client.WindowsQuery{
		Select: cmd.Args().Slice(), Labels: cmd.StringSlice("label"), Last: cmd.String("last"), Range: cmd.String("range"), Zone: cmd.String("zone"),
		Width: cmd.String("width"), Stride: cmd.String("stride"), ByClock: cmd.Bool("by-clock"), Edges: cmd.String("edges"),
		Hours: cmd.String("hours"), Days: cmd.String("weekdays"), Except: cmd.StringSlice("except"), Fold: cmd.String("fold"), Newest: cmd.Int("newest"),
		Gaps: cmd.String("gaps"), Units: cmd.StringSlice("unit"), Shift: cmd.String("shift"),
		Across: cmd.String("across"), Weight: cmd.String("weight"), By: cmd.String("by"),
		Highest: cmd.Int("highest"), Lowest: cmd.Int("lowest"), Rank: cmd.String("rank"),
		Inputs: inputs, Calculations: cmd.StringSlice("calc"), Explain: cmd.Bool("explain"),
	}
	for name, to := range map[string]*[]string{"stats": &q.Stats, "then": &q.Then} {
		if text := cmd.String(name); text != "" {
			*to = strings.Split(text, ",")
		}
	}
	if err := timeFlags(cmd, map[string]*time.Time{"from": &q.From, "to": &q.To, "origin": &q.Origin}); err != nil {
		return err
	}
	if path := cmd.String("except-file"); path != "" {
		dates, err := readDates(path)
		if err != nil {
			return err
		}
		q.Except = append(q.Except, dates...)
	}
	if cmd.Bool("wide") {
		if form := cmd.String("output"); cmd.IsSet("output") && form != "csv" {
			return usage("--wide writes CSV; leave out --output %s, or --wide", form)
		}
		return ask(cmd).WindowsAs(ctx, q, "wide", cmd.Root().Writer)
	}
	if cmd.String("output") == "arrow" {
		return ask(cmd).WindowsAs(ctx, q, "arrow", texts.Bare(cmd.Root().Writer))
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

// readDates reads a list of dates, one a line.
func readDates(path string) (out []string, err error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, usage("--except-file: %v", err)
	}
	for i, line := range strings.Split(string(text), "\n") {
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		if _, err := window.ParseDates(line); err != nil {
			return nil, usage("%s, line %d: %v", path, i+1, err)
		}
		out = append(out, line)
	}
	return out, nil
}

// timeFlags reads times, by the clocks of --zone where they do not say otherwise.
func timeFlags(cmd *cli.Command, flags map[string]*time.Time) error {
	zone, err := texts.Zone(cmd.String("zone"))
	if err != nil {
		return usage("--zone %v", err)
	}
	for name, to := range flags {
		if text := cmd.String(name); text != "" {
			if *to, err = window.ParseTime(text, zone); err != nil {
				return usage("--%s: %v", name, err)
			}
		}
	}
	return nil
}

// windowsGrid has a row for each series and window of which something is known.
func windowsGrid(answer client.Windows) grid {
	has := func(what func(client.SeriesWindows) bool) bool { return slices.ContainsFunc(answer.Series, what) }
	shifted := has(func(s client.SeriesWindows) bool { return s.Shift != "" })
	ranked := has(func(s client.SeriesWindows) bool { return s.Rank > 0 })
	g := grid{empty: "No data in this range.", notes: windowsNotes(answer)}
	if ranked {
		g.columns = append(g.columns, column{name: "rank", right: true})
	}
	g.columns = append(g.columns, column{name: "series"}, column{name: "start"})
	if len(answer.Places) > 0 {
		g.columns[len(g.columns)-1].name = "place"
	}
	before := len(g.columns)
	stats := shownStats(answer)
	for _, stat := range stats {
		g.columns = append(g.columns, column{name: stat, right: true})
	}
	g.columns = append(g.columns, column{name: "unit"}, column{name: "filled"}, column{name: "tier"})
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
			if s.Empty[i] && !hasNumber(s, i) {
				continue
			}
			var row []cell
			if ranked {
				row = append(row, count(s.Rank))
			}
			row = append(row, plain(s.Name), momentIn(start, zone))
			if len(answer.Places) > 0 {
				row[len(row)-1] = plain(answer.Places[i])
			}
			for _, stat := range stats {
				row = append(row, statCell(s, stat, i, zone))
			}
			filled := yesNo(s.Filled[i], "filled", "")
			if i < len(s.Open) && s.Open[i] && !s.Filled[i] {
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
				sameDecimals(g.rows[first:], before+c)
			}
		}
	}
	return g
}

// windowsNotes returns the remarks that have no column.
func windowsNotes(answer client.Windows) (out []string) {
	add := func(format string, args ...any) {
		if text := fmt.Sprintf(format, args...); !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	for _, s := range answer.Series {
		for _, stat := range answer.Stats {
			if unit := s.Units[stat]; unit != "" && unit != s.Unit && unit != "/" {
				add("%s in %s", stat, unit)
			}
		}
	}
	for _, s := range answer.Series {
		for _, stat := range answer.Stats {
			if again := s.Then[stat]; again != nil {
				var parts []string
				for _, name := range slices.Sorted(maps.Keys(again)) {
					parts = append(parts, name+" "+number(again[name]).people)
				}
				add("%s, of the windows' %s: %s", s.Name, stat, strings.Join(parts, ", "))
			}
		}
		for _, path := range s.Silent {
			add("%s: no reading of %s in this range", s.Name, path)
		}
		if e := s.Explained; e != nil {
			for _, r := range e.Read {
				add("%s from %s: %s", s.Name, r.Tier, readText(r))
			}
			if e.Why != "" {
				add("%s: not from a wider tier, as %s", s.Name, e.Why)
			}
		}
	}
	for _, text := range answer.LeftOut {
		add("left out: %s", text)
	}
	return append(out, missingNotes(answer)...)
}

const mostMissing = 3 // gaps that are told below a table

// missingNotes tells what is missing of the series, and why.
func missingNotes(answer client.Windows) (out []string) {
	zone, err := time.LoadLocation(answer.Zone)
	if err != nil {
		zone = time.UTC
	}
	left := 0
	for _, s := range answer.Series {
		for _, g := range s.Missing {
			if g.Of != "" { // windows are answered from what is left
				continue
			}
			if len(out) == mostMissing {
				left++
				continue
			}
			to := "on"
			if g.To != nil {
				to = "to " + momentIn(*g.To, zone).people
			}
			text := fmt.Sprintf("%s is missing from %s %s: %s", s.Name, momentIn(g.From, zone).people, to, gap.Cause(g.Cause).Words())
			if g.Detail != "" {
				text += " (" + g.Detail + ")"
			}
			out = append(out, text)
		}
	}
	if left > 0 {
		out = append(out, fmt.Sprintf("and %d more gaps; nexocumula gaps lists them", left))
	}
	return out
}

func readText(r client.Read) string {
	var parts []string
	for _, one := range []struct {
		n    int
		text string
	}{
		{r.Synopses, "%d chunks by their synopsis"}, {r.Steps, "%d chunks by quarters of an hour"},
		{r.Opened, "%d chunks opened"}, {r.Rows, "%d rows"}, {r.Bytes, "%d bytes"},
	} {
		if one.n > 0 {
			parts = append(parts, fmt.Sprintf(one.text, one.n))
		}
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return strings.Join(parts, ", ")
}

// shownStats returns the answer's, and how many series a group has data of.
func shownStats(answer client.Windows) []string {
	stats := answer.Stats
	if len(answer.Series) > 0 && answer.Series[0].Values["contributing"] != nil {
		stats = append(slices.Clone(stats), "contributing")
	}
	return stats
}

// hasNumber says that a window of which nothing is known has a number all the same, such as
// how many series have data in it.
func hasNumber(s client.SeriesWindows, i int) bool {
	return s.Members > 0 && i < len(s.Values["contributing"])
}

func statCell(s client.SeriesWindows, stat string, i int, zone *time.Location) cell {
	if times, ok := s.Times[stat]; ok {
		if times[i] == nil {
			return forPeople("", "–")
		}
		return momentIn(*times[i], zone)
	}
	v := client.Number(math.NaN())
	if values := s.Values[stat]; i < len(values) {
		v = client.Number(values[i])
	}
	if b, ok := s.Bounds[stat]; ok && math.IsNaN(float64(v)) && !math.IsNaN(b.Least[i]) {
		least, most := number(client.Number(b.Least[i])), number(client.Number(b.Most[i]))
		return forPeople(least.script+".."+most.script, least.people+" to "+most.people)
	}
	if math.IsNaN(float64(v)) {
		return forPeople("", "–")
	}
	if stat == "coverage" || stat == "steadiness" || strings.HasPrefix(stat, "share:") ||
		strings.Contains(stat, "_share:") {
		return share(v)
	}
	if slices.Contains([]string{"first", "last", "min", "max"}, stat) {
		return stateOr(nameIn(s.States, v), v)
	}
	return number(v)
}

// momentIn returns a time by the clocks of a zone; scripts get UTC.
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
		return isTerminal(cmd.Root().Writer), nil
	default:
		return false, usage("--chart %q: use auto, always or never", mode)
	}
}

// drawCharts draws the first few.
func drawCharts(out io.Writer, answer client.Windows) error {
	const most = 4
	drawn := charts(answer)
	for i, text := range drawn {
		if i == most {
			_, err := fmt.Fprintf(out, "\n%d more charts are not drawn.\n", len(drawn)-most)
			return err
		}
		if _, err := fmt.Fprintf(out, "\n%s\n", text); err != nil {
			return err
		}
	}
	return nil
}
