package query

import (
	"context"
	"errors"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/unit"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// Readings asks for the readings of a range themselves, where they are kept.
type Readings struct {
	Select series.Selector
	Range  window.Range
	Unit   string // convert to; "" leaves values as they are
	Most   int    // of each series, the first ones; 0: all
}

// mostReadings bounds one answer, which is written as it is read.
const mostReadings = 20_000_000

// ReadingsSink takes readings block by block, one series after the other. A block lives
// only until the next comes.
type ReadingsSink interface {
	// Begin says whose readings come, and in which unit.
	Begin(s engine.Series, unit string) error
	Readings(times []int64, values []float64) error
}

// Run hands out the readings. An error before Begin is called is a refusal of the whole.
func (q Readings) Run(ctx context.Context, src Source, sink ReadingsSink) error {
	ctx, cancel := context.WithTimeout(ctx, src.Limits.MaxTime)
	defer cancel()
	return tooSlow(ctx, src, q.run(ctx, src, sink))
}

func (q Readings) run(ctx context.Context, src Source, sink ReadingsSink) error {
	if err := q.Range.Check(); err != nil {
		return refuse("range", "%v", err)
	}
	src = src.following(q.Range.From.UnixNano(), q.Range.To.UnixNano())
	found, err := Find(src.Store, q.Select)
	if err != nil {
		return err
	}
	if len(found) > src.Limits.MaxSeries {
		return refuse("too_large", "%s names %d series; at most %d are answered at once: name fewer", q.Select,
			len(found), src.Limits.MaxSeries)
	}
	conversions := make([]unit.Conversion, len(found))
	for i, s := range found {
		if !s.Collected {
			return refuse("no_readings", "of %s only summaries are kept here for this time; fetch its readings (nexocumula fetch), or ask for windows of %s",
				s.Path, s.Tiers.Narrowest())
		}
		conversions[i] = unit.Conversion{Scale: 1}
		if q.Unit != "" {
			if conversions[i], err = unit.Convert(s.Unit, q.Unit); err != nil {
				return refuse("unit", "%s: %v", s.Path, err)
			}
		}
	}
	passing := &passing{sink: sink}
	for i, s := range found {
		to := s.Unit
		if q.Unit != "" {
			to = q.Unit
		}
		if err := sink.Begin(s, to); err != nil {
			return err
		}
		passing.by, passing.left, passing.done = conversions[i], q.Most, false
		if q.Most == 0 {
			passing.left = mostReadings
		}
		want := engine.Wanted{Tier: series.Readings, From: q.Range.From.UnixNano(), To: q.Range.To.UnixNano()}
		if err := src.Store.Scan(ctx, s.ID, want, passing); err != nil && !passing.done {
			return err
		}
	}
	return nil
}

// passing hands blocks on, converted, up to a number of readings.
type passing struct {
	sink   ReadingsSink
	by     unit.Conversion
	left   int // of this series
	all    int
	done   bool
	values []float64
}

var errEnough = errors.New("that is enough")

func (p *passing) Rows(b column.Block, _ int64) error {
	n := min(b.Len(), p.left)
	if p.all += n; p.all > mostReadings {
		return refuse("too_large", "more than %d readings are not answered at once: ask for a shorter range",
			mostReadings)
	}
	values := b.Cols[0][:n]
	if p.by != (unit.Conversion{Scale: 1}) {
		p.values = p.values[:0]
		for _, v := range values {
			p.values = append(p.values, v*p.by.Scale+p.by.Offset)
		}
		values = p.values
	}
	if err := p.sink.Readings(b.Times[:n], values); err != nil {
		return err
	}
	if p.left -= n; p.left == 0 {
		p.done = true
		return errEnough
	}
	return nil
}

// Whole is never called because Cut is nil.
func (p *passing) Whole(int64, int64, rollup.Summary) error { return nil }
