package api

import (
	"encoding/csv"
	"time"

	"nexocumula/internal/plain"
	"nexocumula/internal/query"
)

// wideRows writes RFC 4180 with a row for each window and a column for each stat of each series, as spreadsheets
// and analysts' tools take it. The columns are known when the last series is, so the numbers wait until
// then; the limits of a query bound them.
type wideRows struct {
	to      *buffered
	query   query.Windows
	fields  []field
	names   []string
	columns []func(row int) string
	table   *table
}

func newWide(to *buffered, q query.Windows) *wideRows { return &wideRows{to: to, query: q} }

func (w *wideRows) begun() bool { return w.to.begun }

func (w *wideRows) begin(columns []field) error {
	w.fields = columns
	return nil
}

func (w *wideRows) series(t *table, s query.SeriesRows) error {
	w.table = t
	for _, f := range w.fields {
		name := s.Name + " " + f.name
		if !s.Shift.IsZero() {
			name += " " + s.Shift.String() + " earlier"
		}
		if f.isTime {
			times := s.Times[f.stat]
			w.columns = append(w.columns, func(row int) string { return timeText(times[row]) })
		} else {
			if f.stat < len(s.StatUnits) && s.StatUnits[f.stat] != "" {
				name += " (" + s.StatUnits[f.stat] + ")"
			}
			numbers := f.of(s, f.stat)
			w.columns = append(w.columns, func(row int) string { return numberText(numbers[row]) })
		}
		w.names = append(w.names, plain.Cell(name))
	}
	return nil
}

func (w *wideRows) end(whole bool) error {
	if !whole {
		return nil // nothing was sent: the reason is the answer
	}
	w.to.open(typeCSV)
	out := csv.NewWriter(w.to)
	zone := w.query.Grid.Zone
	if zone == nil {
		zone = time.UTC
	}
	row := []string{"start " + zone.String(), "start UTC"}
	folded := w.table != nil && w.table.place(0) != ""
	if folded {
		row = append(row, "place")
	}
	if err := out.Write(append(row, w.names...)); err != nil {
		return err
	}
	for i := 0; w.table != nil && i < len(w.table.head.Windows); i++ {
		from := w.table.head.Windows[i].From
		row = append(row[:0], time.Unix(0, from).In(zone).Format("2006-01-02 15:04:05"), timeText(from))
		if folded {
			row = append(row, w.table.place(i))
		}
		for _, column := range w.columns {
			row = append(row, column(i))
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	if err := out.Error(); err != nil {
		return err
	}
	return w.to.flush()
}
