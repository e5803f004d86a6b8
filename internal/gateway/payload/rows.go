package payload

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
)

// Row is a value of a document that names its series itself.
type Row struct {
	Place string // line or record, for people
	Name  string // of the series, as the document says
	At    int64  // nanoseconds since 1970; since the arrival when Relative
	Value float64
	Text  string // instead of Value: the name of a state
	Unit  string
	Err   error // why it cannot be read

	Relative bool // the document says no time of its own
}

// SenMLRows returns the values of a pack, in JSON or in CBOR.
func SenMLRows(document []byte, inCBOR bool) (rows []Row, err error) {
	r := senmlReader{parse: readJSON}
	if inCBOR {
		r.parse, r.label = readCBOR, senmlLabel
	}
	err = r.pack(document, func(v senmlRecord) {
		rows = append(rows, Row{
			fmt.Sprintf("record %d", v.record), v.name, v.when.at, v.raw, v.text, v.unit, v.err, v.when.relative,
		})
	})
	return rows, err
}

// The columns of CSV.
var csvColumns = []string{"series", "time", "value", "unit"}

// CSVRows returns the lines of CSV (RFC 4180) with a header: series, time and value, and unit if
// there is one. A time is one of RFC 3339, or seconds since 1970; empty, it is the arrival.
func CSVRows(document []byte) (rows []Row, err error) {
	reader := csv.NewReader(bytes.NewReader(document))
	reader.FieldsPerRecord = -1 // a line of another number is wrong by itself
	header, err := reader.Read()
	if err != nil {
		return nil, fmt.Errorf("the header cannot be read: %w", err)
	}
	column := map[string]int{}
	for i, name := range header {
		name = strings.TrimPrefix(strings.TrimSpace(name), "\ufeff")
		if _, twice := column[name]; twice || !slices.Contains(csvColumns, name) {
			return nil, fmt.Errorf("column %q of the header is not known, or there twice; the columns are %s",
				clip(name), strings.Join(csvColumns, ", "))
		}
		column[name] = i
	}
	for _, name := range csvColumns[:3] {
		if _, ok := column[name]; !ok {
			return nil, fmt.Errorf("the header has no column %s; write %s", name, strings.Join(csvColumns, ","))
		}
	}
	for {
		cells, err := reader.Read()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return nil, err // it names the line
		}
		if len(rows) == mostValues {
			return nil, tooMany(mostValues+1, 1)
		}
		line, _ := reader.FieldPos(0)
		row := Row{Place: fmt.Sprintf("line %d", line)}
		if len(cells) != len(header) {
			row.Err = fmt.Errorf("%d columns, where the header has %d", len(cells), len(header))
			rows = append(rows, row)
			continue
		}
		row.Name = cells[column["series"]]
		if i, ok := column["unit"]; ok {
			row.Unit = cells[i]
		}
		row.read(strings.TrimSpace(cells[column["time"]]), strings.TrimSpace(cells[column["value"]]))
		rows = append(rows, row)
	}
}

func (r *Row) read(at, number string) {
	switch {
	case at == "":
		r.Relative = true
	case numeral.MatchString(at):
		r.At, r.Err = countedTime(at, "seconds since 1970", 1e9)
	default:
		r.At, r.Err = textTime(at, "an RFC 3339 time such as 2026-03-01T08:00:00Z",
			func(text string) (time.Time, error) { return time.Parse(time.RFC3339Nano, text) })
	}
	if v, err := readNumber(number); err == nil {
		r.Value = v
	} else if number != "" {
		r.Text = number
	} else if r.Err == nil {
		r.Err = errors.New("value is empty where a number should be")
	}
}
