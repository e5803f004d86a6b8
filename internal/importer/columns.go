package importer

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/payload"
)

// Columns say what stands where in CSV. A column is named as the header does, or by its number
// from 1.
type Columns struct {
	Separator string // one letter; "" is a comma
	NoHeader  bool   // the first line is a record already
	Time      string
	TimeForm  string // as that of a payload
	TimeZone  string
	Series    string   // of a line that is one reading,
	Value     string   // with its value
	Unit      string   // and, if wanted, its unit
	Wide      []string // COLUMN=SERIES: of a line that has a reading in each of several columns
	Rest      string   // series of all other columns, with {column} for its name
	Comma     bool     // numbers have a decimal comma
}

// table is a file of CSV.
type table struct {
	*csv.Reader
	columns           Columns
	header            []string
	time              int
	readTime          func(any) (int64, error)
	series, value, of int // of long lines; -1: none
	wide              map[int]string
	first             []string // the first line, when it is a record
	readComma         bool
}

func openCSV(from io.Reader, c Columns) (Reader, error) {
	t := &table{
		Reader:    csv.NewReader(from),
		columns:   c,
		series:    -1,
		value:     -1,
		of:        -1,
		wide:      map[int]string{},
		readComma: c.Comma,
	}
	t.FieldsPerRecord, t.ReuseRecord, t.LazyQuotes = -1, false, false
	if c.Separator != "" {
		letters := []rune(strings.ReplaceAll(c.Separator, `\t`, "\t"))
		if len(letters) != 1 {
			return nil, fmt.Errorf("the separator %q is not one letter", c.Separator)
		}
		t.Comma = letters[0]
	}
	var err error
	if t.readTime, err = payload.Times(c.TimeForm, c.TimeZone); err != nil || strings.HasPrefix(c.TimeForm, "uptime") {
		return nil, errors.Join(err, fmt.Errorf("--time-form %q cannot be used for history", c.TimeForm))
	}
	line, err := t.Read()
	if err != nil {
		return nil, fmt.Errorf("the first line cannot be read: %w", err)
	}
	line[0] = strings.TrimPrefix(line[0], "\ufeff")
	if t.header = line; c.NoHeader {
		t.first, t.header = line, make([]string, len(line))
	}
	for i, name := range t.header {
		t.header[i] = strings.TrimSpace(name)
	}
	return t, t.find()
}

func (t *table) find() (err error) {
	c := t.columns
	column := func(flag, name, otherwise string) int {
		if name == "" {
			name = otherwise
		}
		i, found := t.column(name)
		if found != nil && err == nil {
			err = fmt.Errorf("--%s: %w", flag, found)
		}
		return i
	}
	t.time = column("time", c.Time, "time")
	if len(c.Wide) == 0 && c.Rest == "" {
		t.series, t.value = column("series", c.Series, "series"), column("value", c.Value, "value")
		if _, there := t.column("unit"); c.Unit != "" || there == nil {
			t.of = column("unit", c.Unit, "unit")
		}
		return err
	}
	if c.Series != "" || c.Value != "" || c.Unit != "" {
		return errors.New("--series, --value and --unit are of lines that are one reading each; --column and --rest of those with several")
	}
	for _, pair := range c.Wide {
		name, series, ok := strings.Cut(pair, "=")
		if !ok {
			return fmt.Errorf("--column %q: write COLUMN=SERIES, such as OX1=raceway-1/oxygen", pair)
		}
		t.wide[column("column", name, "")] = series
	}
	if c.Rest != "" {
		from := map[string]string{}
		for i, name := range t.header {
			if _, taken := t.wide[i]; taken || i == t.time {
				continue
			}
			level := series.CleanLevel(name)
			if first, twice := from[level]; twice && err == nil {
				err = fmt.Errorf("--rest: the columns %q and %q would both be {column} %q, and come into one series; name one with --column",
					first, name, level)
			}
			from[level] = name
			t.wide[i] = strings.ReplaceAll(c.Rest, "{column}", level)
		}
	}
	return err
}

func (t *table) column(name string) (int, error) {
	if i := slices.Index(t.header, name); i >= 0 && name != "" {
		return i, nil
	}
	if n, err := strconv.Atoi(name); err == nil && n >= 1 && n <= len(t.header) {
		return n - 1, nil
	}
	if t.columns.NoHeader {
		return 0, fmt.Errorf("there is no column %q; without a header they are 1 to %d", name, len(t.header))
	}
	return 0, fmt.Errorf("there is no column %q; the header has %s", name, strings.Join(t.header, ", "))
}

// Next returns the rows of the next line.
func (t *table) Next() ([]Row, error) {
	cells, number := t.first, 1
	if t.first = nil; cells == nil {
		var err error
		cells, err = t.Read()
		if bad, ok := errors.AsType[*csv.ParseError](err); ok {
			return []Row{{Place: fmt.Sprintf("line %d", bad.StartLine), Err: bad.Err}}, nil
		}
		if err != nil {
			return nil, err
		}
		number, _ = t.FieldPos(0)
	}
	place := fmt.Sprintf("line %d", number)
	if len(cells) != len(t.header) {
		return []Row{{
			Place: place, Err: fmt.Errorf("%d columns, where the first line has %d", len(cells), len(t.header)),
		}}, nil
	}
	at, err := t.readTime(cells[t.time])
	if err != nil {
		return []Row{{Place: place, Err: err}}, nil
	}
	when := time.Unix(0, at)
	if t.series >= 0 {
		one := Row{
			Place:  place,
			Series: strings.TrimSpace(cells[t.series]),
			Time:   when,
			Value:  t.number(cells[t.value]),
		}
		if t.of >= 0 {
			one.Unit = strings.TrimSpace(cells[t.of])
		}
		return []Row{one.checked()}, nil
	}
	var rows []Row
	for i, cell := range cells {
		if series, taken := t.wide[i]; taken && strings.TrimSpace(cell) != "" { // an empty cell is no reading
			rows = append(rows, Row{
				Place:  place + ", " + cmpName(t.header[i], i),
				Series: series,
				Time:   when,
				Value:  t.number(cell),
			}.checked())
		}
	}
	return rows, nil
}

func cmpName(name string, i int) string {
	if name == "" {
		return fmt.Sprintf("column %d", i+1)
	}
	return "column " + name
}

// number returns a cell with a decimal point. What is no number may be the name of a state, which
// the gateway knows.
func (t *table) number(cell string) string {
	cell = strings.TrimSpace(cell)
	if t.readComma {
		if v, err := payload.CommaNumber(cell); err == nil {
			return strconv.FormatFloat(v, 'g', -1, 64)
		}
	}
	return cell
}
