package main

import (
	"path/filepath"
	"time"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/pipeline"
)

// defineMany returns how many series a second a gateway begins whose first readings come one by one,
// as from one connection, until all are acknowledged, beside a transaction for each.
func defineMany(dir string, count int) (Row, error) {
	const wanted = 10_000
	st, err := openStore(filepath.Join(dir, "ours.db"))
	if err != nil {
		return Row{}, err
	}
	defer st.Close()
	pipe, stop, err := collecting(st)
	if err != nil {
		return Row{}, err
	}
	results := make(chan error, count)
	at := time.Now().UnixNano()
	begun := time.Now()
	for _, path := range many(count) {
		pipe.Submit(&pipeline.Delivery{
			Readings: []reading.Reading{{Path: series.Path(path), Time: at, Value: 1, From: &reading.Origin{}}},
			Done:     func(err error) { results <- err },
		})
	}
	for range count {
		if err := <-results; err != nil {
			return Row{}, err
		}
	}
	rate := float64(count) / time.Since(begun).Seconds()
	if err := stop(); err != nil {
		return Row{}, err
	}
	one, err := openStore(filepath.Join(dir, "one.db"))
	if err != nil {
		return Row{}, err
	}
	defer one.Close()
	begun = time.Now()
	for _, path := range many(count / 10) {
		if _, err := defineOne(one, path, series.Gauge); err != nil {
			return Row{}, err
		}
	}
	each := float64(count/10) / time.Since(begun).Seconds()
	row := Row{
		Unit: "series/s", Ours: rate, Reference: "a transaction each", ReferenceValue: each, Ratio: rate / each,
		Goal: ">= 10,000", Met: rate >= wanted,
	}
	return row, nil
}
