package main

import (
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
	ids, err := st.Define([]series.Definition{{Path: series.Path(path), Kind: kind, Unit: "Cel", FreshFor: time.Minute}})
	if err != nil {
		return 0, err
	}
	return ids[0], nil
}

// openRows opens a plain SQLite file, as references are kept in, with the settings that
// ours has as well.
func openRows(path string) (*gorm.DB, error) {
	return gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: "file:" + path + "?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)"},
		&gorm.Config{SkipDefaultTransaction: true, PrepareStmt: true, Logger: logger.Discard})
}

func closeRows(db *gorm.DB) error {
	pool, err := db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// seconds is how long f takes, the median of rounds.
func seconds(n int, f func() error) (float64, error) {
	var all []float64
	for range n {
		begun := time.Now()
		if err := f(); err != nil {
			return 0, err
		}
		all = append(all, time.Since(begun).Seconds())
	}
	return median(all), nil
}

// faster is a row of two durations, in milliseconds; the ratio is how many times as
// fast ours is.
func faster(ours, reference float64, what, goal string, least float64) Row {
	row := Row{Unit: "ms", Ours: 1e3 * ours, Reference: what, ReferenceValue: 1e3 * reference, Ratio: reference / ours, Goal: goal}
	row.Met = row.Ratio >= least
	return row
}

func many(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprintf("bench/station-%05d/value", i)
	}
	return out
}
