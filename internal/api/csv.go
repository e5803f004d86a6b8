package api

import (
	"encoding/csv"
	"math"
	"strconv"
	"time"

	"nexocumula/client"
	"nexocumula/internal/plain"
	"nexocumula/internal/query"
)

// csvRows writes RFC 4180.
type csvRows struct {
	to  *buffered
	csv *csv.Writer
	row []string

	fields  []field
	missing *missing
}

func newCSV(to *buffered, m *missing) *csvRows {
	return &csvRows{to: to, csv: csv.NewWriter(to), missing: m}
}

func (w *csvRows) begun() bool { return w.to.begun }

func (w *csvRows) begin(columns []field) error {
	w.to.open(typeCSV)
	w.fields = columns
	w.row = append(w.row[:0], "series", "start", "end", "place")
	for _, c := range columns {
		w.row = append(w.row, c.name)
	}
	return w.csv.Write(append(w.row, "unit", "empty", "filled", "open", "missing"))
}

func (w *csvRows) series(t *table, s query.SeriesRows) error {
	w.missing.head(t.head)
	gaps, err := w.missing.of(s)
	if err != nil {
		return err
	}
	for i := range s.Empty {
		from, to := t.span(s, i)
		w.row = append(w.row[:0], plain.Cell(s.Name), timeText(from), timeText(to), t.place(i))
		for _, f := range w.fields {
			if f.isTime {
				w.row = append(w.row, timeText(s.Times[f.stat][i]))
			} else {
				w.row = append(w.row, numberText(f.of(s, f.stat)[i]))
			}
		}
		w.row = append(w.row, plain.Cell(s.Unit), strconv.FormatBool(s.Empty[i]), strconv.FormatBool(s.Filled[i]),
			strconv.FormatBool(i < len(s.Open) && s.Open[i]), causesWithin(gaps, from, to, s.Empty[i]))
		if err := w.csv.Write(w.row); err != nil {
			return err
		}
	}
	return nil
}

func (w *csvRows) end(bool) error {
	w.csv.Flush()
	if err := w.csv.Error(); err != nil {
		return err
	}
	return w.to.flush()
}

// timeText and numberText leave a cell empty where there is nothing.
func timeText(ns int64) string {
	if ns == 0 {
		return ""
	}
	return at(ns).Format(time.RFC3339Nano)
}

func numberText(v float64) string {
	if math.IsNaN(v) {
		return ""
	}
	return string(client.AppendNumber(nil, v))
}
