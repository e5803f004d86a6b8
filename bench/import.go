package main

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/pipeline"
)

// importing returns how many readings of the past a second a gateway takes in and summarises, those of a few
// series at 1 Hz and those of many at ten minutes, beside what is wanted.
func importing(dir string) ([]Row, error) {
	dense, err := imported(filepath.Join(dir, "dense.db"), 20, 100_000, time.Second, true)
	if err != nil {
		return nil, err
	}
	sparse, err := imported(filepath.Join(dir, "sparse.db"), 2000, 500, 10*time.Minute, false)
	if err != nil {
		return nil, err
	}
	row := func(name string, v, wanted float64) Row {
		return Row{
			Name: name, Unit: "readings/s", Ours: v, Reference: "what is wanted", ReferenceValue: wanted,
			Ratio: v / wanted, Goal: fmt.Sprintf(">= %.0f", wanted), Met: v >= wanted,
		}
	}
	return []Row{row("import_dense", dense, 200_000), row("import_sparse", sparse, 50_000)}, nil
}

// imported takes in count readings of each series, series by series or time by time, and waits until all
// are summarised.
func imported(file string, of, count int, every time.Duration, bySeries bool) (perSecond float64, err error) {
	st, err := openStore(file)
	if err != nil {
		return 0, err
	}
	defer st.Close()
	pipe, err := pipeline.New(st, config.Gateway{
		Pace: config.CommitDelay{Messages: 100 * time.Millisecond, Polls: time.Second},
	}, slog.New(slog.DiscardHandler))
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	done := make(chan error, 1)
	go func() { done <- pipe.Run(ctx) }()
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
			return 0, err
		}
	}
	for summarised := false; !summarised; time.Sleep(50 * time.Millisecond) {
		if err := pipe.Between(ctx, func() error { summarised = pipe.Idle(); return nil }); err != nil {
			return 0, err
		}
	}
	perSecond = float64(of*count) / time.Since(begun).Seconds()
	cancel()
	return perSecond, <-done
}
