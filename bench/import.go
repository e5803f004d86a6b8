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

// importDense returns how many readings of the past a second a gateway takes in and summarises, those of 20 series at
// 1 Hz.
func importDense(dir string, readings int) (Row, error) {
	rate, _, err := imported(filepath.Join(dir, "dense.db"), 20, readings/20, time.Second, true)
	return Row{
		Unit: "readings/s", Ours: rate, Reference: "what is wanted", ReferenceValue: 200_000, Ratio: rate / 200_000,
		Goal: ">= 200,000", Met: rate >= 200_000,
	}, err
}

// importSparse returns the same of many series at ten minutes.
func importSparse(dir string, readings int) (Row, error) {
	rate, _, err := imported(filepath.Join(dir, "sparse.db"), readings/500, 500, 10*time.Minute, false)
	return Row{
		Unit: "readings/s", Ours: rate, Reference: "what is wanted", ReferenceValue: 50_000, Ratio: rate / 50_000,
		Goal: ">= 50,000", Met: rate >= 50_000,
	}, err
}

// importResent returns how many summaries are written, and so sent, for each that there is, of both kinds of imports.
func importResent(dir string) (Row, error) {
	_, dense, err := imported(filepath.Join(dir, "dense.db"), 20, 20_000, time.Second, true)
	if err != nil {
		return Row{}, err
	}
	_, sparse, err := imported(filepath.Join(dir, "sparse.db"), 500, 500, 10*time.Minute, false)
	worse := max(dense, sparse)
	return Row{
		Unit: "summaries", Ours: worse, Reference: fmt.Sprintf("each once; dense %.3f, sparse %.3f", dense, sparse),
		ReferenceValue: 1, Ratio: worse, Goal: "<= 1.05", Met: worse <= 1.05,
	}, err
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

// importingLive returns how late the summaries of 100 series at 1 Hz are made, at most, while a gateway takes in
// readings of the past as fast as it can.
func importingLive(dir string) (Row, error) {
	const lasts = 45 * time.Second
	st, err := openStore(filepath.Join(dir, "live.db"))
	if err != nil {
		return Row{}, err
	}
	defer st.Close()
	pipe, stop, err := collecting(st)
	if err != nil {
		return Row{}, err
	}
	paths := many(100)
	done := make(chan struct{})
	imported := make(chan int)
	go func() { imported <- importUntil(pipe, done) }()
	var worst time.Duration
	ends := time.Now().Add(lasts)
	seen, live := map[int64]bool{}, time.Now()
	for tick := time.NewTicker(20 * time.Millisecond); time.Now().Before(ends); <-tick.C {
		if now := time.Now(); now.Sub(live) >= time.Second {
			live = live.Add(time.Second)
			d := &pipeline.Delivery{Done: func(error) {}}
			for _, p := range paths {
				d.Readings = append(d.Readings, lateReading(p, now))
			}
			pipe.Submit(d)
		}
		last, _ := st.Find(series.Path(paths[len(paths)-1]))
		if to := last.SummarisedTo; to != 0 && !seen[to] {
			seen[to] = true
			if len(seen) > 1 { // the first may be of a window that was half over
				worst = max(worst, time.Since(time.Unix(0, to)))
			}
		}
	}
	close(done)
	readings := <-imported
	if len(seen) < 4 {
		return Row{}, fmt.Errorf("only %d windows were summarised", len(seen))
	}
	return Row{
		Name: "import_live", Unit: "s late", Ours: worst.Seconds(),
		Reference: fmt.Sprintf("what is wanted, beside %.0f readings/s of the past", float64(readings)/lasts.Seconds()), ReferenceValue: 5,
		Ratio: worst.Seconds() / 5, Goal: "<= 5", Met: worst <= 5*time.Second,
	}, stop()
}

// importUntil takes in readings of 20 series at 1 Hz of the past, and returns how many.
func importUntil(pipe *pipeline.Pipeline, done chan struct{}) (sent int) {
	room := make(chan struct{}, 16)
	from := time.Now().Add(-365 * 24 * time.Hour).Truncate(time.Hour)
	for k := 0; ; k++ {
		d := &pipeline.Delivery{Done: func(error) { <-room }}
		for i := range 2000 {
			d.Readings = append(d.Readings, lateReading(fmt.Sprintf("bench/past-%02d/value", k%20), from.Add(time.Duration(k/20*2000+i)*time.Second)))
		}
		select {
		case <-done:
			return sent
		case room <- struct{}{}:
			pipe.Submit(d)
			sent += 2000
		}
	}
}
