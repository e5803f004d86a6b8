package api

import (
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

// numbers are the columns that a stat has: where summaries tell only bounds of it, these as well.
func numbers(name string, stat int, bounded bool) []field {
	out := []field{{name: name, stat: stat, of: func(s query.SeriesRows, i int) []float64 { return s.Rows.Stats[i] }}}
	if bounded {
		out = append(out,
			field{name: name + " least", stat: stat, of: func(s query.SeriesRows, i int) []float64 { return s.Least[i] }},
			field{name: name + " most", stat: stat, of: func(s query.SeriesRows, i int) []float64 { return s.Most[i] }})
	}
	return out
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
	if !t.open {
		t.open = true
		var fields []field
		for i, name := range s.Stats {
			if isTime(s, i) {
				fields = append(fields, field{name: name, isTime: true, stat: i})
			} else {
				fields = append(fields, numbers(name, i, hasBounds(s, i))...)
			}
		}
		if err := t.to.begin(fields); err != nil {
			return err
		}
	}
	return t.to.series(t, s)
}

func (t *table) end(cause *client.Error) error {
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

// place is what says which window row i is of, beside its times.
func (t *table) place(i int) string { return t.head.Windows[i].Place }

// span is when the window of row i is; of a shift, when it is really.
func (t *table) span(s query.SeriesRows, i int) (from, to int64) {
	if !s.Shift.IsZero() && i < len(s.Starts) {
		return s.Starts[i].From, s.Starts[i].To
	}
	return t.head.Windows[i].From, t.head.Windows[i].To
}
