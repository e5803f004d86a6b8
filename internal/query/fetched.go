package query

import (
	"context"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// Fetched are readings that were asked for of series whose summaries alone come by themselves.
type Fetched interface {
	// Covers reports whether all readings of a time are here.
	Covers(path series.Path, from, to int64) bool
	// Follows reports whether they are, or come as they are made.
	Follows(path series.Path, from, to int64) bool
	Read(ctx context.Context, path series.Path, from, to int64) (column.Block, error)
	// Last returns the last reading before a time.
	Last(ctx context.Context, path series.Path, before int64) (at int64, value float64, ok bool, err error)
}

// covering returns a source in which series whose readings of a whole range were fetched are as if they had been
// collected here.
func (src Source) covering(from, to int64) Source {
	if src.Fetched != nil {
		src.Store = &covered{Reader: src.Store, fetched: src.Fetched, covers: src.Fetched.Covers, from: from, to: to, paths: map[uint32]series.Path{}}
	}
	return src
}

// following is covering, also of readings that still come as they are made.
func (src Source) following(from, to int64) Source {
	src = src.covering(from, to)
	if c, ok := src.Store.(*covered); ok {
		c.covers = src.Fetched.Follows
	}
	return src
}

type covered struct {
	Reader
	fetched  Fetched
	covers   func(path series.Path, from, to int64) bool
	from, to int64
	paths    map[uint32]series.Path // of series with fetched readings; written by List, before anything is read
}

func (c *covered) List(of series.Selector) []engine.Series {
	out := c.Reader.List(of)
	for i := range out {
		if s := &out[i]; !s.Collected && c.covers(s.Path, c.from, c.to) {
			s.Collected, s.ThinnedTo = true, 0
			c.paths[s.ID] = s.Path
		}
	}
	return out
}

// Scan brings fetched readings in one block.
func (c *covered) Scan(ctx context.Context, id uint32, w engine.Wanted, sink engine.Sink) error {
	path, ok := c.paths[id]
	if !ok || w.Tier != series.Readings {
		return c.Reader.Scan(ctx, id, w, sink)
	}
	rows, err := c.fetched.Read(ctx, path, w.From, w.To)
	if err != nil || rows.Len() == 0 {
		return err
	}
	return sink.Rows(rows, 0)
}

func (c *covered) LastBefore(ctx context.Context, id uint32, tier series.Tier, t int64) (at int64, value float64, ok bool, err error) {
	path, fetched := c.paths[id]
	if !fetched || tier != series.Readings {
		return c.Reader.LastBefore(ctx, id, tier, t)
	}
	return c.fetched.Last(ctx, path, t)
}
