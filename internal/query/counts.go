package query

import (
	"context"
	"time"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
)

// Counts returns how many readings there were of each series in a range.
func Counts(ctx context.Context, src Source, of series.Selector, from, to time.Time) (map[string]float64, error) {
	stats, err := window.ParseStats("count")
	if err != nil {
		return nil, err
	}
	out := counting{}
	err = Windows{Select: []series.Selector{of}, Range: window.Range{From: from, To: to}, Stats: stats}.Run(ctx, src,
		out)
	return out, err
}

type counting map[string]float64

func (c counting) Head(Head) error { return nil }

func (c counting) Series(r SeriesRows) error {
	c[r.Name] = r.WholeCount
	return nil
}
