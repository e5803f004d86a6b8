package api

import (
	"encoding/csv"
	"encoding/json"
	"net/http"
	"strconv"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/ipc"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/gin-gonic/gin"

	"nexocumula/client"
	"nexocumula/internal/plain"
	"nexocumula/internal/query"
	"nexocumula/internal/store/engine"
)

var readingsParameters = names{"select", "label*", "from", "to", "last", "range", "zone", "unit", "limit", "format"}

// readingsAnswer is a writer of readings in one of the forms.
type readingsAnswer interface {
	answer
	query.ReadingsSink
}

func (h handlers) readings(c *gin.Context) {
	q, err := h.readReadings(c)
	if err != nil {
		fail(c, http.StatusBadRequest, "query", err.Error())
		return
	}
	form, err := formOf(c)
	if err != nil {
		fail(c, http.StatusNotAcceptable, "format", err.Error())
		return
	}
	to := newBuffered(c.Writer, turnOf(c))
	var out readingsAnswer
	switch form {
	case asCSV:
		out = &readingsCSV{to: to, csv: csv.NewWriter(to)}
	case asArrow:
		out = &readingsArrow{to: to}
	default:
		out = &readingsJSON{to: to}
	}
	err = q.Run(c.Request.Context(), h.source(c), out)
	h.complete(c, out, err)
}

func (h handlers) readReadings(c *gin.Context) (q query.Readings, err error) {
	v, err := readingsParameters.read(c)
	if err != nil {
		return q, err
	}
	if q.Select, err = readSelector(v); err != nil {
		return q, err
	}
	zone, err := readZone(v)
	if err != nil {
		return q, err
	}
	if q.Range, err = readRange(v, h.now(), zone); err != nil {
		return q, err
	}
	if v.Get("limit") != "" {
		q.Most, err = readCount(v, "limit", "how many readings of each series you want")
	}
	q.Unit = v.Get("unit")
	return q, err
}

// readingsJSON writes a client.Readings.
type readingsJSON struct {
	to     *buffered
	series int
	some   bool // readings of the series
}

func (w *readingsJSON) begun() bool { return w.to.begun }

func (w *readingsJSON) Begin(s engine.Series, unit string) error {
	if w.series++; w.series == 1 {
		w.to.open(typeJSON)
		w.to.text(`{"series":[`)
	} else {
		w.to.text(`]},`)
	}
	about, err := json.Marshal(client.SeriesReadings{
		Path:     string(s.Path),
		Kind:     string(s.Kind),
		Unit:     unit,
		States:   s.States.Map(),
		Thinning: thinningOf(s),
	})
	if err != nil {
		return err
	}
	const rest = `,"readings":null}`
	w.to.add(about[:len(about)-len(rest)])
	w.to.text(`,"readings":[`)
	w.some = false
	return w.to.err
}

func (w *readingsJSON) Readings(times []int64, values []float64) error {
	for i, t := range times {
		if w.some || i > 0 {
			w.to.room = append(w.to.room, ',')
		}
		w.to.room = append(appendTime(append(w.to.room, `{"time":`...), t), `,"value":`...)
		if w.to.room = append(appendNumber(w.to.room, values[i]), '}'); len(w.to.room) > 4096 {
			w.to.spill()
		}
	}
	w.some = w.some || len(times) > 0
	w.to.spill()
	return w.to.err
}

func (w *readingsJSON) end(cause *client.Error) error {
	if w.series > 0 {
		w.to.text("]}")
	}
	return w.to.endJSON(cause)
}

// readingsCSV writes RFC 4180.
type readingsCSV struct {
	to         *buffered
	csv        *csv.Writer
	path, unit string
}

func (w *readingsCSV) begun() bool { return w.to.begun }

func (w *readingsCSV) Begin(s engine.Series, unit string) error {
	if !w.to.begun {
		w.to.open(typeCSV)
		if err := w.csv.Write([]string{"series", "time", "value", "unit"}); err != nil {
			return err
		}
	}
	w.path, w.unit = plain.Cell(string(s.Path)), plain.Cell(unit)
	return nil
}

func (w *readingsCSV) Readings(times []int64, values []float64) error {
	for i, t := range times {
		if err := w.csv.Write([]string{w.path, timeText(t), strconv.FormatFloat(values[i], 'g', -1, 64), w.unit}); err != nil {
			return err
		}
	}
	return nil
}

func (w *readingsCSV) end(*client.Error) error {
	w.csv.Flush()
	if err := w.csv.Error(); err != nil {
		return err
	}
	return w.to.flush()
}

// readingsArrow writes an Arrow IPC stream.
type readingsArrow struct {
	to         *buffered
	build      *array.RecordBuilder
	stream     *ipc.Writer
	path, unit string
}

func (w *readingsArrow) begun() bool { return w.to.begun }

func (w *readingsArrow) Begin(s engine.Series, unit string) error {
	if w.stream == nil {
		w.to.open(typeArrow)
		schema := arrow.NewSchema([]arrow.Field{
			{Name: "series", Type: arrow.BinaryTypes.String}, {Name: "time", Type: arrowTime}, {Name: "value", Type: arrow.PrimitiveTypes.Float64}, {Name: "unit", Type: arrow.BinaryTypes.String},
		}, nil)
		w.build = array.NewRecordBuilder(memory.DefaultAllocator, schema)
		w.stream = ipc.NewWriter(w.to, ipc.WithSchema(schema))
	}
	w.path, w.unit = string(s.Path), unit
	return nil
}

func (w *readingsArrow) Readings(times []int64, values []float64) error {
	paths, units := w.build.Field(0).(*array.StringBuilder), w.build.Field(3).(*array.StringBuilder)
	stamps := w.build.Field(1).(*array.TimestampBuilder)
	for _, t := range times {
		paths.Append(w.path)
		units.Append(w.unit)
		stamps.Append(arrow.Timestamp(t))
	}
	w.build.Field(2).(*array.Float64Builder).AppendValues(values, nil)
	record := w.build.NewRecordBatch()
	defer record.Release()
	return w.stream.Write(record)
}

func (w *readingsArrow) end(cause *client.Error) error {
	if cause == nil {
		if err := w.stream.Close(); err != nil {
			return err
		}
	}
	return w.to.flush()
}
