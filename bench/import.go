package main

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
)

// importing returns how many readings of the past a second a gateway takes in and summarises, those of a few
// series at 1 Hz and those of many at ten minutes, beside what is wanted.
func importing(dir string) ([]Row, error) {
	dense, again, err := imported(filepath.Join(dir, "dense.db"), 20, 100_000, time.Second, true)
	if err != nil {
		return nil, err
	}
	sparse, more, err := imported(filepath.Join(dir, "sparse.db"), 2000, 500, 10*time.Minute, false)
	if err != nil {
		return nil, err
	}
	row := func(name string, v, wanted float64) Row {
		return Row{
			Name: name, Unit: "readings/s", Ours: v, Reference: "what is wanted", ReferenceValue: wanted,
			Ratio: v / wanted, Goal: fmt.Sprintf(">= %.0f", wanted), Met: v >= wanted,
		}
	}
	resent := Row{
		Name: "import_resent", Unit: "summaries", Ours: max(again, more),
		Reference: fmt.Sprintf("each once; dense %.3f, sparse %.3f", again, more), ReferenceValue: 1, Ratio: max(again,
			more),
		Goal: "<= 1.05", Met: max(again, more) <= 1.05,
	}
	return []Row{row("import_dense", dense, 200_000), row("import_sparse", sparse, 50_000), resent}, nil
}

// summaries counts the rows of summaries that are written, as an uplink would send them.
type summaries struct{ written int }

func (s *summaries) Appended(_ sqlite.Writer, entries []engine.Entry, _ []engine.Sketch) {
	for _, e := range entries {
		if e.Tier != series.Readings {
			s.written += e.Rows.Len()
		}
	}
}

func (*summaries) Redefined(sqlite.Writer, []engine.Series)        {}
func (*summaries) Pending(sqlite.Writer) []engine.Pending          { return nil }
func (*summaries) Droppable(_ marks.Of, before, _ time.Time) int64 { return before.UnixNano() }

// imported takes in count readings of each series, series by series or time by time, and waits until all
// are summarised. writtenAgain says how many summaries were written for each that there is.
func imported(file string, of, count int, every time.Duration, bySeries bool) (perSecond, writtenAgain float64, err error) {
	st, err := openStore(file)
	if err != nil {
		return 0, 0, err
	}
	defer st.Close()
	made := &summaries{}
	st.Accompany(made)
	pipe, stop, err := collecting(st)
	if err != nil {
		return 0, 0, err
	}
	paths := many(of)
	from := time.Now().Add(-time.Duration(count) * every).Truncate(time.Hour).Add(-time.Hour)
	begun := time.Now()
	const group = 2000
	results := make(chan error, of*count/group+1)
	d := &pipeline.Delivery{}
	sent := 0
	add := func(i, k int) {
		d.Readings = append(d.Readings, reading.Reading{
			Path: series.Path(paths[i]), Time: from.Add(time.Duration(k) * every).UnixNano(),
			Value: float64((k*7+i*13)%400) / 100, From: &reading.Origin{},
		})
		if len(d.Readings) < group {
			return
		}
		d.Done = func(err error) { results <- err }
		pipe.Submit(d)
		d = &pipeline.Delivery{}
		sent++
	}
	for i := range of * count {
		a, b := i/count, i%count
		if !bySeries {
			b, a = i/of, i%of
		}
		add(a, b)
	}
	for range sent {
		if err := <-results; err != nil {
			return 0, 0, err
		}
	}
	if err := summarised(pipe); err != nil {
		return 0, 0, err
	}
	perSecond = float64(of*count) / time.Since(begun).Seconds()
	if err := stop(); err != nil {
		return 0, 0, err
	}
	distinct := 0
	for _, one := range st.List(series.Everything()) {
		for _, tier := range one.Tiers.All() {
			rows, err := st.Read(context.Background(), one.ID, tier, 0, 1<<62)
			if err != nil {
				return 0, 0, err
			}
			distinct += rows.Len()
		}
	}
	return perSecond, float64(made.written) / float64(distinct), nil
}
