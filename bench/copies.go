package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"nexocumula/internal/backup"
	"nexocumula/internal/service"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

// copiedSeries have a day of summaries of a minute each.
const copiedSeries = 2000

// copies looks through a store, and copies it into a folder that has most of it, beside reading the same bytes.
func copies(dir string) ([]Row, error) {
	data := filepath.Join(dir, "data") // a backup may not be in the folder that it is of
	if err := os.Mkdir(data, 0o700); err != nil {
		return nil, err
	}
	if err := dayOfMinutes(data, many(copiedSeries)); err != nil {
		return nil, err
	}
	file := filepath.Join(data, service.StoreFile)
	db, err := openRows(file)
	if err != nil {
		return nil, err
	}
	// A service gives free pages back, a few at a time.
	if err := db.Exec("PRAGMA incremental_vacuum").Error; err != nil {
		return nil, err
	}
	read := func() error {
		var all []struct{ Whole, Step0, Step1, Part0, Part1, Part2, Part3 []byte }
		return db.Raw("SELECT whole, step0, step1, part0, part1, part2, part3 FROM chunks").Scan(&all).Error
	}
	quiet := slog.New(slog.DiscardHandler)
	look, err := inTurn(7, func() error {
		_, err := store.Verify(context.Background(), file, quiet, func(f engine.Fault) { panic(f.Text) },
			func(context.Context, int) error { return nil })
		return err
	}, read)
	if err != nil {
		return nil, err
	}
	taken := time.Now()
	copied, err := inTurn(7, func() error {
		taken = taken.Add(time.Second)
		_, err := backup.IntoFolder(context.Background(), filepath.Join(dir, "copies"),
			backup.Wanted{Data: data, Store: service.StoreFile, Site: "bench", Taken: taken, Log: quiet})
		return err
	}, read)
	if err != nil {
		return nil, err
	}
	rate := func(p pairs, name string, least float64) Row {
		row := p.times("reading the same bytes from the file", fmt.Sprintf(">= %.1f", least), least)
		row.Name = name
		return row
	}
	return []Row{rate(look, "verify_rate", 0.3), rate(copied, "backup_rate", 0.5)}, closeRows(db)
}
