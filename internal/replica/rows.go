package replica

import (
	"context"
	"errors"
	"math"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
	"nexocumula/internal/wire"
)

// rowKind is a kind of rows of a series.
type rowKind struct {
	// read fills a run with the first rows of a mark, at most so many, and says where those begin
	// that are left.
	read func(ctx context.Context, from Source, m marks.Mark, most int, into *wire.Run) (next int64, err error)
	// take adds to a batch what of a run counts.
	take func(ctx context.Context, into Target, id uint32, run *wire.Run, batch *engine.Batch) error
}

var rowKinds = map[marks.Kind]rowKind{
	marks.Summaries: {readSummaries, takeSummaries}, // the one that counts more readings, else the later
	marks.Sketches:  {readSketches, takeSketches},   // the later
	marks.Asked:     {readReadings, takeReadings},   // all that were asked for
}

// Source is what rows are read from.
type Source interface {
	Get(id uint32) (engine.Series, bool)
	Scan(ctx context.Context, id uint32, w engine.Wanted, sink engine.Sink) error
	Sketches(ctx context.Context, id uint32, from, to int64, most int) ([]engine.Sketch, error)
	ReadingsOf(ctx context.Context, id uint32, from, to int64, most int) (column.Block, error)
}

// Target is what rows are taken into.
type Target interface {
	Replaceable(ctx context.Context, id uint32, tier series.Tier, rows column.Block) (column.Block, error)
	Unremoved(def *series.Definition, tier series.Tier, rows column.Block) column.Block
	TakeReadings(path series.Path, rows column.Block) sqlite.Change
}

// ReadRows returns the first rows of a mark, at most so many, and where those begin that are left.
func ReadRows(ctx context.Context, from Source, m marks.Mark, most int) (run wire.Run, next int64, err error) {
	known, ok := from.Get(m.Series)
	if !ok {
		return run, math.MaxInt64, nil // its definition was lost; it is set aside and told
	}
	run.Def = known.Definition
	next, err = rowKinds[m.Kind].read(ctx, from, m, most, &run)
	return run, next, err
}

// TakeRows adds to a batch what of a run counts beside what is there of its series.
func TakeRows(ctx context.Context, into Target, id uint32, run wire.Run, batch *engine.Batch) error {
	for _, kind := range rowKinds {
		if err := kind.take(ctx, into, id, &run, batch); err != nil {
			return err
		}
	}
	return nil
}

func readSummaries(ctx context.Context, from Source, m marks.Mark, most int, into *wire.Run) (next int64, err error) {
	into.Tier = m.Tier
	first := &firstRows{most: most}
	err = from.Scan(ctx, m.Series, engine.Wanted{
		Tier: m.Tier,
		From: m.From,
		To:   m.To,
		Need: rollup.NeedAll,
		Keep: true,
	}, first)
	if err != nil && !errors.Is(err, errEnough) {
		return 0, err
	}
	into.Rows = first.rows
	if n := first.rows.Len(); n == most {
		return first.rows.Times[n-1] + 1, nil
	}
	return math.MaxInt64, nil
}

// takeSummaries leaves out those of which the store has one that counts more readings.
func takeSummaries(ctx context.Context, into Target, id uint32, run *wire.Run, batch *engine.Batch) error {
	if run.Tier == series.Readings {
		return nil
	}
	fuller, err := into.Replaceable(ctx, id, run.Tier, into.Unremoved(&run.Def, run.Tier, run.Rows))
	if err == nil && fuller.Len() > 0 {
		batch.Entries = append(batch.Entries, engine.Entry{Series: id, Tier: run.Tier, Rows: fuller})
	}
	return err
}

func readSketches(ctx context.Context, from Source, m marks.Mark, most int, into *wire.Run) (next int64, err error) {
	some, err := from.Sketches(ctx, m.Series, m.From, m.To, most)
	if err != nil {
		return 0, err
	}
	for _, one := range some {
		into.Sketches = append(into.Sketches, wire.Sketch{Start: one.Start, Data: one.Data})
	}
	if len(some) == most {
		return some[most-1].Start + int64(series.Quarter), nil
	}
	return math.MaxInt64, nil
}

func takeSketches(_ context.Context, _ Target, id uint32, run *wire.Run, batch *engine.Batch) error {
	for _, one := range run.Sketches {
		batch.Sketches = append(batch.Sketches, engine.Sketch{Series: id, Start: one.Start, Data: one.Data})
	}
	return nil
}

func readReadings(ctx context.Context, from Source, m marks.Mark, most int, into *wire.Run) (next int64, err error) {
	into.Tier = series.Readings
	if into.Rows, err = from.ReadingsOf(ctx, m.Series, m.From, m.To, most); err != nil {
		return 0, err
	}
	if n := into.Rows.Len(); n == most {
		return into.Rows.Times[n-1] + 1, nil
	}
	return math.MaxInt64, nil
}

func takeReadings(_ context.Context, into Target, _ uint32, run *wire.Run, batch *engine.Batch) error {
	if run.Tier != series.Readings || run.Rows.Len() == 0 {
		return nil
	}
	if change := into.TakeReadings(run.Def.Path, run.Rows); change != nil {
		batch.Also = append(batch.Also, change)
	}
	return nil
}

var errEnough = errors.New("these are rows enough")

// firstRows is a sink that takes so many rows and then ends the scan.
type firstRows struct {
	most int
	rows column.Block
}

func (f *firstRows) Rows(b column.Block, _ int64) error {
	b = b.Rows(0, min(b.Len(), f.most-f.rows.Len()))
	if f.rows.Len() == 0 {
		f.rows = b
	} else {
		f.rows.Append(b)
	}
	if f.rows.Len() == f.most {
		return errEnough
	}
	return nil
}

// Whole is never called because Cut is nil.
func (f *firstRows) Whole(int64, int64, rollup.Summary) error { return nil }
