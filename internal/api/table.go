package api

import (
	"slices"

	"nexocumula/client"
	"nexocumula/internal/query"
)

// table writes an answer as rows of named columns, a row for each series and window, in a
// form that has nothing beside them.
type table struct {
	query query.Windows
	to    rows
	head  query.Head
	open  bool

	// held are the series of a query that combines series. One may have bounds where an earlier one has numbers, so the
	// columns are known when the last series is. Such an answer is a few series, whatever it was made of.
	held []query.SeriesRows
}

// rows is a form of tables.
type rows interface {
	begin(columns []field) error
	series(t *table, s query.SeriesRows) error
	end(whole bool) error
	begun() bool
}

// field is a column of a table: a stat's numbers or times, or the least or the most that it may be.
type field struct {
	name   string
	isTime bool
	stat   int
	of     func(s query.SeriesRows, stat int) []float64 // nil of times
}

// numbers returns the columns of a stat: where summaries tell only bounds of it for some series, these as well. The
// bounds of an exact number are the number.
func numbers(name string, stat int, bounded bool) []field {
	out := []field{{name: name, stat: stat, of: func(s query.SeriesRows, i int) []float64 { return s.Rows.Stats[i] }}}
	if bounded {
		out = append(out,
			field{
				name: name + " least",
				stat: stat,
				of:   func(s query.SeriesRows, i int) []float64 { return boundsOr(s.Least, s, i) },
			},
			field{
				name: name + " most",
				stat: stat,
				of:   func(s query.SeriesRows, i int) []float64 { return boundsOr(s.Most, s, i) },
			})
	}
	return out
}

func boundsOr(bounds [][]float64, s query.SeriesRows, stat int) []float64 {
	if hasBounds(s, stat) {
		return bounds[stat]
	}
	return s.Rows.Stats[stat]
}

func newTable(q query.Windows, to rows) *table { return &table{query: q, to: to} }

func (t *table) begun() bool { return t.to.begun() }

// Head is kept until it is known which columns there are.
func (t *table) Head(head query.Head) error {
	t.head = head
	return nil
}

// Series adds the rows of one.
func (t *table) Series(s query.SeriesRows) error {
	if t.query.Across != nil || len(t.query.Calculations) > 0 {
		t.held = append(t.held, s)
		return nil
	}
	return t.write(s)
}

// write writes series whose stats have the same columns.
func (t *table) write(all ...query.SeriesRows) error {
	if !t.open {
		t.open = true
		var fields []field
		for i, name := range all[0].Stats {
			if isTime(all[0], i) {
				fields = append(fields, field{name: name, isTime: true, stat: i})
				continue
			}
			bounded := slices.ContainsFunc(all, func(s query.SeriesRows) bool { return hasBounds(s, i) })
			fields = append(fields, numbers(name, i, bounded)...)
		}
		if err := t.to.begin(fields); err != nil {
			return err
		}
	}
	for _, s := range all {
		if err := t.to.series(t, s); err != nil {
			return err
		}
	}
	return nil
}

func (t *table) end(cause *client.Error) error {
	if len(t.held) > 0 {
		if err := t.write(t.held...); err != nil {
			return err
		}
	}
	if !t.open && cause == nil { // no series at all: the columns say what there would have been
		var fields []field
		for i, s := range t.head.Stats {
			if s.IsTime() {
				fields = append(fields, field{name: s.String(), isTime: true, stat: i})
			} else {
				fields = append(fields, numbers(s.String(), i, s.Bounded())...)
			}
		}
		if err := t.to.begin(fields); err != nil {
			return err
		}
	}
	return t.to.end(cause == nil)
}

// place returns the label of row i's window, beside its times.
func (t *table) place(i int) string { return t.head.Windows[i].Place }

// span returns when the window of row i is; of a shift, when it is really.
func (t *table) span(s query.SeriesRows, i int) (from, to int64) {
	if !s.Shift.IsZero() && i < len(s.Starts) {
		return s.Starts[i].From, s.Starts[i].To
	}
	return t.head.Windows[i].From, t.head.Windows[i].To
}
