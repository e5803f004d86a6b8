package main

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/pipeline"
)

// commitLatency returns how long a lone sender waits until its reading is on disk, beside
// appending a page to a plain file and syncing it.
func commitLatency(dir string) (Row, error) {
	st, err := openStore(filepath.Join(dir, "ours.db"))
	if err != nil {
		return Row{}, err
	}
	defer st.Close()
	pipe, err := pipeline.New(st,
		config.Gateway{Pace: config.CommitDelay{Messages: 100 * time.Millisecond, Polls: time.Second}},
		slog.New(slog.DiscardHandler))
	if err != nil {
		return Row{}, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	done := make(chan error, 1)
	go func() { done <- pipe.Run(ctx) }()
	file, err := os.Create(filepath.Join(dir, "plain"))
	if err != nil {
		return Row{}, err
	}
	defer file.Close()
	page := make([]byte, 4096)
	begun := time.Now()
	n := 0
	p, err := inTurn(300, func() error {
		n++
		stored := make(chan error, 1)
		pipe.Submit(&pipeline.Delivery{Sender: 1, Done: func(err error) { stored <- err }, Readings: []reading.Reading{{
			Path: series.Path("bench/probe/value"), Time: begun.UnixNano() + int64(n), Value: float64(n), From: &reading.Origin{Source: "bench"},
		}}})
		return <-stored
	}, func() error {
		if _, err := file.Write(page); err != nil {
			return err
		}
		return file.Sync()
	})
	if err != nil {
		return Row{}, fmt.Errorf("a reading was not stored: %w", err)
	}
	cancel()
	row := p.row("ms", 1e3, "a bare sync of a page", "<= 3", func(ratio float64) bool { return ratio <= 3 })
	return row, <-done
}
