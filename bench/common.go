package main

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"nexocumula/internal/core/series"
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
