package main

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/store"
)

func openStore(path string) (*store.Store, error) {
	return store.Open(path, slog.New(slog.DiscardHandler), store.Options{})
}

func defineOne(st *store.Store, path string, kind series.Kind) (uint32, error) {
	ids, err := st.Define(context.Background(), []series.Definition{{
		Path:     series.Path(path),
		Kind:     kind,
		Unit:     "Cel",
		FreshFor: time.Minute,
	}})
	if err != nil {
		return 0, err
	}
	return ids[0], nil
}

// openRows opens a plain SQLite file, as references are kept in, with the settings that
// ours has as well.
func openRows(path string) (*gorm.DB, error) {
	return gorm.Open(sqlite.Dialector{
		DriverName: "sqlite", DSN: "file:" + path + "?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)",
	},
		&gorm.Config{SkipDefaultTransaction: true, PrepareStmt: true, Logger: logger.Discard})
}

func closeRows(db *gorm.DB) error {
	pool, err := db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

func many(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprintf("bench/station-%05d/value", i)
	}
	return out
}

// collecting runs the pipeline of a gateway on a store, until stop.
func collecting(st *store.Store) (pipe *pipeline.Pipeline, stop func() error, err error) {
	pipe, err = pipeline.New(st, config.Gateway{
		Pace: config.CommitDelay{Messages: 100 * time.Millisecond, Polls: time.Second},
	}, slog.New(slog.DiscardHandler))
	if err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- pipe.Run(ctx) }()
	return pipe, func() error { cancel(); return <-done }, nil
}

// summarised waits until no window of a pipeline waits for its summary.
func summarised(pipe *pipeline.Pipeline) error {
	for idle := false; !idle; time.Sleep(50 * time.Millisecond) {
		if err := pipe.Between(context.Background(), func() error { idle = pipe.Idle(); return nil }); err != nil {
			return err
		}
	}
	return nil
}
