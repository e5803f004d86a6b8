package storetest

import (
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// Readings are rows of a time and a value each.
func Readings(pairs ...float64) column.Block {
	b := column.New(1, 0)
	for i := 0; i < len(pairs); i += 2 {
		b.Add(int64(pairs[i]), pairs[i+1])
	}
	return b.Normalize()
}

// Minutes is 1-min summaries of one reading each.
func Minutes(first, count int64) column.Block {
	rows := rollup.NewBlock(series.Gauge, int(count))
	for i := range count {
		start := (first + i) * int64(series.Minute)
		rollup.Summary{
			Count: 1, Mean: 1, Min: 1, Max: 1, First: 1, Last: 1, Covered: time.Minute, Held: 1,
			MinAt: start, MaxAt: start, FirstAt: start, LastAt: start,
		}.AddTo(&rows, start, series.Gauge)
	}
	return rows
}
