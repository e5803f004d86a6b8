package api

import (
	"math"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/ipc"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"nexocumula/internal/query"
)

// arrowRows writes an Arrow IPC stream, a record batch for each series. The format:
// https://arrow.apache.org/docs/format/Columnar.html#ipc-streaming-format
type arrowRows struct {
	to     *buffered
	fields []field
	build  *array.RecordBuilder
	stream *ipc.Writer
}

func newArrow(to *buffered) *arrowRows { return &arrowRows{to: to} }

func (w *arrowRows) begun() bool { return w.to.begun }

var arrowTime = &arrow.TimestampType{Unit: arrow.Nanosecond, TimeZone: "UTC"}

func (w *arrowRows) begin(columns []field) error {
	w.to.open(typeArrow)
	w.fields = columns
	fields := []arrow.Field{
		{Name: "series", Type: arrow.BinaryTypes.String}, {Name: "start", Type: arrowTime},
		{Name: "end", Type: arrowTime}, {Name: "place", Type: arrow.BinaryTypes.String},
	}
	for _, c := range columns {
		kind := arrow.DataType(arrow.PrimitiveTypes.Float64)
		if c.isTime {
			kind = arrowTime
		}
		fields = append(fields, arrow.Field{Name: c.name, Type: kind, Nullable: true})
	}
	fields = append(fields, arrow.Field{Name: "unit", Type: arrow.BinaryTypes.String})
	for _, name := range []string{"empty", "filled", "open"} {
		fields = append(fields, arrow.Field{Name: name, Type: arrow.FixedWidthTypes.Boolean})
	}
	schema := arrow.NewSchema(fields, nil)
	w.build = array.NewRecordBuilder(memory.DefaultAllocator, schema)
	w.stream = ipc.NewWriter(w.to, ipc.WithSchema(schema))
	return nil
}

func (w *arrowRows) series(t *table, s query.SeriesRows) error {
	n := len(s.Empty)
	w.build.Reserve(n)
	text := func(col int, of func(i int) string) {
		b := w.build.Field(col).(*array.StringBuilder)
		for i := range n {
			b.Append(of(i))
		}
	}
	starts, ends := w.build.Field(1).(*array.TimestampBuilder), w.build.Field(2).(*array.TimestampBuilder)
	for i := range n {
		from, to := t.span(s, i)
		starts.UnsafeAppend(arrow.Timestamp(from))
		ends.UnsafeAppend(arrow.Timestamp(to))
	}
	text(0, func(int) string { return s.Name })
	text(3, t.place)
	for k, f := range w.fields {
		if f.isTime {
			appendArrowTimes(w.build.Field(4+k).(*array.TimestampBuilder), s.Times[f.stat])
		} else {
			appendArrowNumbers(w.build.Field(4+k).(*array.Float64Builder), f.of(s, f.stat))
		}
	}
	after := 4 + len(w.fields)
	text(after, func(int) string { return s.Unit })
	for k, flags := range [][]bool{s.Empty, s.Filled, s.Open} {
		if flags == nil {
			flags = make([]bool, n)
		}
		w.build.Field(after+1+k).(*array.BooleanBuilder).AppendValues(flags, nil)
	}
	record := w.build.NewRecordBatch()
	defer record.Release()
	return w.stream.Write(record)
}

func appendArrowNumbers(to *array.Float64Builder, values []float64) {
	for _, v := range values {
		if math.IsNaN(v) {
			to.UnsafeAppendBoolToBitmap(false)
		} else {
			to.UnsafeAppend(v)
		}
	}
}

func appendArrowTimes(to *array.TimestampBuilder, times []int64) {
	for _, t := range times {
		if t == 0 {
			to.UnsafeAppendBoolToBitmap(false)
		} else {
			to.UnsafeAppend(arrow.Timestamp(t))
		}
	}
}

// end leaves the end-of-stream mark out when rows are missing.
func (w *arrowRows) end(whole bool) error {
	if whole && w.stream != nil {
		if err := w.stream.Close(); err != nil {
			return err
		}
	}
	return w.to.flush()
}
