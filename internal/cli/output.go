package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"nexocumula/client"
	texts "nexocumula/internal/plain"
)

var outputFlag = outputs("table", "json", "csv")

// sayFlag is for commands that answer with a sentence or two.
var sayFlag = outputs("text", "json")

// tableFlag is for answers that are tables of numbers, which analysts' tools read as Arrow.
var tableFlag = outputs("table", "json", "csv", "arrow")

func outputs(forms ...string) *cli.StringFlag {
	names := strings.Join(forms[:len(forms)-1], ", ") + " or " + forms[len(forms)-1]
	return &cli.StringFlag{
		Name: "output", Aliases: []string{"o"}, Value: forms[0], Usage: "form of the answer: " + names,
		Validator: func(s string) error {
			if !slices.Contains(forms, s) {
				return fmt.Errorf("output %q: use %s", s, names)
			}
			return nil
		},
	}
}

// grid is an answer as rows and columns. Cells of people are for tables, cells of
// scripts for CSV; a column whose two are alike has only the latter.
type grid struct {
	columns []column
	rows    [][]cell
	empty   string                // what to tell people when there are no rows
	notes   []string              // for people, below the table: what is too long for a column
	scripts func(row []cell) bool // which rows are for scripts as well; nil: all

	headless bool // it goes on with rows whose names came before
}

type column struct {
	name  string
	long  bool // for scripts only; people get it as notes
	right bool // numbers stand right
	wraps bool // it is text of a sentence or more
}

type cell struct {
	script, people string
	at             time.Time // that people ends with; none: the zero time
}

func plain(s string) cell { return cell{script: s, people: s} }

// forPeople is a cell that people read in other words than scripts.
func forPeople(script, people string) cell { return cell{script: script, people: people} }

func count[T int | uint64](n T) cell { return plain(fmt.Sprint(n)) }

// show writes the answer as --output says: all of it as JSON, or the grid.
func show(cmd *cli.Command, answer any, g grid) error {
	out := cmd.Root().Writer
	switch cmd.String("output") {
	case "json":
		enc := json.NewEncoder(out)
		enc.SetIndent("", "  ")
		return enc.Encode(answer)
	case "csv":
		return g.csv(out)
	}
	if err := g.in(cmd); err != nil {
		return err
	}
	return g.table(out)
}

// say answers with a sentence, or with JSON of what it is about.
func say(cmd *cli.Command, answer any, text string) error {
	if cmd.String("output") == "json" {
		return show(cmd, answer, grid{})
	}
	_, err := fmt.Fprintln(cmd.Root().Writer, text)
	return err
}

// zoneFlag is for times in tables. Scripts get them in UTC.
var zoneFlag = &cli.StringFlag{
	Name: "zone", Usage: "IANA name of the zone whose clocks count, such as Europe/Lisbon; default: UTC",
}

const (
	utcForm  = "2006-01-02 15:04:05Z"
	zoneForm = "2006-01-02 15:04:05-07:00"
)

// in writes the times of a grid by the clocks of --zone.
func (g grid) in(cmd *cli.Command) error {
	zone, err := texts.Zone(cmd.String(zoneFlag.Name))
	if err != nil {
		return usage("--zone %v", err)
	}
	if zone == time.UTC {
		return nil
	}
	for _, row := range g.rows {
		for i, c := range row {
			if !c.at.IsZero() {
				row[i].people = strings.TrimSuffix(c.people, c.at.UTC().Format(utcForm)) + c.at.In(zone).Format(zoneForm)
			}
		}
	}
	return nil
}

func isTerminal(w io.Writer) bool {
	f, ok := texts.Bare(w).(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func (g grid) csv(out io.Writer) error {
	w := csv.NewWriter(out)
	line := make([]string, len(g.columns))
	for i, c := range g.columns {
		line[i] = c.name
	}
	if !g.headless {
		if err := w.Write(line); err != nil {
			return err
		}
	}
	for _, row := range g.rows {
		if g.scripts != nil && !g.scripts(row) {
			continue
		}
		for i, c := range row {
			line[i] = texts.Cell(c.script)
		}
		if err := w.Write(line); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

func (g grid) table(out io.Writer) error {
	if len(g.rows) == 0 {
		_, err := fmt.Fprintln(out, g.empty)
		return err
	}
	t := table.NewWriter()
	t.SetOutputMirror(out)
	t.SetStyle(table.StyleLight)
	style := t.Style()
	style.Options = table.Options{SeparateHeader: true}
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	head := make(table.Row, len(g.columns))
	configs := make([]table.ColumnConfig, len(g.columns))
	for i, c := range g.columns {
		head[i] = c.name
		configs[i] = table.ColumnConfig{Number: i + 1, Hidden: c.long}
		if c.wraps {
			configs[i].WidthMax, configs[i].WidthMaxEnforcer = 80, text.WrapSoft
		}
		if c.right {
			configs[i].Align, configs[i].AlignHeader = text.AlignRight, text.AlignRight
		}
	}
	t.SetColumnConfigs(configs)
	t.AppendHeader(head)
	for _, row := range g.rows {
		line := make(table.Row, len(row))
		for i, c := range row {
			line[i] = texts.Printable(c.people)
		}
		t.AppendRow(line)
	}
	t.Render()
	for _, note := range g.notes {
		if _, err := fmt.Fprintln(out, note); err != nil {
			return err
		}
	}
	return nil
}

// number returns a value: exact for scripts, four significant digits after the point at
// most for people.
func number(n client.Number) cell {
	f := float64(n)
	if math.IsNaN(f) {
		return forPeople("", "–")
	}
	return forPeople(strconv.FormatFloat(f, 'g', -1, 64), brief(f))
}

// stateOr returns the name of a state, and for scripts its value.
func stateOr(name string, n client.Number) cell {
	c := number(n)
	if name != "" {
		c.people = name
	}
	return c
}

// nameIn returns the name of a state's value.
func nameIn(states map[string]float64, v client.Number) string {
	for name, value := range states {
		if value == float64(v) {
			return name
		}
	}
	return ""
}

func brief(f float64) string {
	digits := 3
	if a := math.Abs(f); a != 0 && a < 10 {
		digits = min(12, 3-int(math.Floor(math.Log10(a))))
	}
	s := strconv.FormatFloat(f, 'f', digits, 64)
	for s[len(s)-1] == '0' && digits > 0 {
		s, digits = s[:len(s)-1], digits-1
	}
	if s[len(s)-1] == '.' {
		s = s[:len(s)-1]
	}
	if s == "-0" {
		return "0"
	}
	return s
}

// sameDecimals gives the numbers of one column of rows, all of the same quantity, as
// many decimals as the one that has most.
func sameDecimals(rows [][]cell, column int) {
	decimals := func(s string) int {
		_, after, _ := strings.Cut(s, ".")
		return len(after)
	}
	most := 0
	for _, row := range rows {
		if strings.HasSuffix(row[column].people, "%") {
			return
		}
		most = max(most, decimals(row[column].people))
	}
	for _, row := range rows {
		text := &row[column].people
		missing := most - decimals(*text)
		if missing == 0 || row[column].script == "" {
			continue
		}
		if !strings.Contains(*text, ".") {
			*text += "."
		}
		*text += strings.Repeat("0", missing)
	}
}

func share(n client.Number) cell {
	return forPeople(strconv.FormatFloat(float64(n), 'g', -1, 64), strconv.FormatFloat(100*float64(n), 'f', 1, 64)+" %")
}

func moment(t time.Time) cell {
	return cell{t.UTC().Format(time.RFC3339Nano), t.UTC().Format(utcForm), t}
}

func momentOr(t *time.Time, otherwise string) cell {
	if t == nil {
		return forPeople("", otherwise)
	}
	return moment(*t)
}

func yesNo(b bool, yes, no string) cell {
	if b {
		return forPeople("true", yes)
	}
	return forPeople("false", no)
}

// age writes a time that has passed, for people.
func age(d time.Duration) string {
	switch {
	case d < 0:
		return "ahead " + age(-d)
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0f h", d.Hours())
	}
	return fmt.Sprintf("%.0f d", d.Hours()/24)
}

// limitFlag says how long an answer may become.
func limitFlag(otherwise int) *cli.IntFlag {
	return &cli.IntFlag{Name: "limit", Value: otherwise, Usage: "number of entries at most"}
}

// lastFlag is a range that ends now.
func lastFlag(otherwise string) *cli.StringFlag {
	return &cli.StringFlag{Name: "last", Usage: "length of the range up to now, such as 24h, 7d or 1mo; default: " + otherwise}
}
