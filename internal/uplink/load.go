package uplink

import (
	"context"
	"errors"
	"math"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/wire"
)

// load is the content of one batch: runs, and what each is about.
type load struct {
	runs []wire.Run
	of   []marks.Of // of runs[i]
	rows int
}

// gather takes marks out, up to most summaries: the present first, but leaving a quarter
// to the backlog, so that neither holds up the other.
func (s *Sender) gather(ctx context.Context, most int) (load, error) {
	var l load
	if err := s.fill(ctx, &l, true, most-most/4); err != nil {
		return l, err
	}
	if err := s.fill(ctx, &l, false, most); err != nil {
		return l, err
	}
	return l, s.fill(ctx, &l, true, most)
}

// mostMarks bounds the marks of a batch: those of nothing cost time too.
const mostMarks = 20_000

func (s *Sender) fill(ctx context.Context, l *load, fresh bool, most int) error {
	for range mostMarks {
		if l.rows >= most {
			return nil
		}
		m, ok := s.outbox.Take(fresh)
		if !ok {
			return nil
		}
		run, next, err := s.read(ctx, m, most-l.rows)
		if err != nil {
			return err
		}
		s.outbox.Shorten(next, run.Len())
		if run.Len() > 0 {
			l.runs, l.of = append(l.runs, run), append(l.of, m.Of)
			l.rows += run.Len()
		}
	}
	return nil
}

// read is the first summaries of a mark, at most so many, and where those begin that are
// left.
func (s *Sender) read(ctx context.Context, m marks.Mark, most int) (run wire.Run, next int64, err error) {
	known, ok := s.store.Get(m.Series)
	if !ok {
		return run, math.MaxInt64, nil // its definition was lost; it is set aside and told
	}
	run.Def = known.Definition
	if m.Sketch {
		some, err := s.store.Sketches(ctx, m.Series, m.From, m.To, most)
		if err != nil {
			return run, 0, err
		}
		for _, one := range some {
			run.Sketches = append(run.Sketches, wire.Sketch{Start: one.Start, Data: one.Data})
		}
		if len(some) == most {
			return run, some[most-1].Start + int64(rollup.Quarter), nil
		}
		return run, math.MaxInt64, nil
	}
	run.Tier = m.Tier
	first := &firstRows{most: most}
	err = s.store.Scan(context.WithoutCancel(ctx), m.Series, engine.Wanted{Tier: m.Tier, From: m.From, To: m.To, Need: rollup.NeedAll, Keep: true}, first)
	if err != nil && !errors.Is(err, errEnough) {
		return run, 0, err
	}
	run.Rows = first.rows
	if n := first.rows.Len(); n == most {
		return run, first.rows.Times[n-1] + 1, nil
	}
	return run, math.MaxInt64, nil
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
