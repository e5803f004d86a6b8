package store

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"gorm.io/gorm"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
)

// Wanted says what a Scan is to bring of a series.
type Wanted struct {
	Tier     rollup.Tier
	From, To int64       // of the rows' times; To not included
	Need     rollup.Need // columns of summaries

	// Cut reports whether rows of from <= time < to must be told apart from each other.
	// Where they need not be, a synopsis may stand for them. nil: always.
	Cut func(from, to int64) bool
	// Steps allows summaries of a quarter of an hour in place of those of the tier.
	Steps bool
}

// Sink takes what a Scan brings, in order of time. Blocks share memory with the store
// and must not be changed; columns that are not needed may be nil.
type Sink interface {
	// Rows are readings (width 0), or summaries of windows width long; the first and
	// the last of a block may be of a part of their window.
	Rows(b column.Block, width int64) error
	// Whole is the summary of all rows with from <= time < to.
	Whole(from, to int64, s rollup.Summary) error
}

// Scan brings a series' rows to the sink, chunk by chunk, as they were at one moment.
// Chunks that cannot be read are left out and set aside.
func (s *Store) Scan(ctx context.Context, id uint32, w Wanted, sink Sink) error {
	known, ok := s.Get(id)
	if !ok {
		return nil // what is not in the catalogue has no rows
	}
	at := place{id, w.Tier}
	sc := scan{series: known, want: w, sink: sink, head: s.head(at, w.From, w.To)}
	if w.Tier != rollup.Readings {
		sc.head = sc.head.Pick(w.Need.Has)
	}
	err := s.reader.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return sc.run(tx, at) })
	if err != nil {
		return fmt.Errorf("reading %s: %w", known.Path, err)
	}
	return s.setAside(sc.broken)
}

// head is what is not sealed yet. It is looked at before the chunks: a seal in between
// moves rows from here to there, where they are then found a second time, which is
// harmless.
func (s *Store) head(at place, from, to int64) column.Block {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return column.Merge(s.frozen[at].Between(from, to), s.heads[at].Between(from, to))
}

type scan struct {
	series Series
	want   Wanted
	sink   Sink
	head   column.Block
	broken []damagedRow
}

func (sc *scan) run(tx *gorm.DB, at place) error {
	chunks, err := chunksBetween(tx, at, sc.want.From, sc.want.To, sc.want.Cut != nil)
	if err != nil {
		return err
	}
	for _, c := range chunks {
		k := sc.head.Search(c.Start)
		if err := sc.emit(sc.head.Rows(0, k), int64(at.tier)); err != nil {
			return err
		}
		late := sc.head.Search(c.End + 1)
		if err := sc.chunk(tx, c, sc.head.Rows(k, late)); err != nil {
			return err
		}
		sc.head = sc.head.Rows(late, sc.head.Len())
	}
	return sc.emit(sc.head, int64(at.tier))
}

// chunksBetween are the chunks that have rows of from <= time < to, in order, without
// their parts.
func chunksBetween(tx *gorm.DB, at place, from, to int64, whole bool) (out []chunkRow, err error) {
	columns := "id, start, `end`, `rows`, steps IS NOT NULL"
	if whole {
		columns += ", whole"
	}
	rows, err := tx.Raw("SELECT "+columns+" FROM chunks WHERE series = ? AND tier = ? AND start < ? AND `end` >= ? ORDER BY start",
		at.series, int64(at.tier), to, from).Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		c := chunkRow{Series: at.series, Tier: int64(at.tier)}
		var hasSteps bool
		into := []any{&c.ID, &c.Start, &c.End, &c.Rows, &hasSteps}
		if whole {
			into = append(into, &c.Whole)
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		if hasSteps {
			c.Steps = []byte{} // there, and not read yet
		}
		out = append(out, c)
	}
	return out, rows.Err()
}

func (sc *scan) emit(b column.Block, width int64) error {
	if b.Len() == 0 {
		return nil
	}
	return sc.sink.Rows(b, width)
}

// chunk brings one chunk, with the late rows of the head that fall into it, from what
// says enough with the least effort.
func (sc *scan) chunk(tx *gorm.DB, c chunkRow, late column.Block) error {
	inside := c.Start >= sc.want.From && c.End < sc.want.To
	if late.Len() == 0 && inside && sc.want.Cut != nil && !sc.want.Cut(c.Start, c.until()) {
		if sum, err := c.whole(sc.series.Kind); err == nil {
			return sc.sink.Whole(c.Start, c.until(), sum)
		}
	}
	if late.Len() == 0 && sc.want.Steps && c.Steps != nil {
		if done, err := sc.steps(tx, c); done || err != nil {
			return err
		}
	}
	names := chunkParts(sc.want.Tier, sc.want.Need)
	if err := readPayloads(tx, &c, names); err != nil {
		return err
	}
	rows, err := c.rows(names, sc.want.Need)
	if err != nil {
		return sc.spoilt(tx, c, err, late)
	}
	rows = rows.Between(sc.want.From, sc.want.To)
	return sc.emit(column.Merge(rows, late), c.Tier)
}

// steps brings the chunk as quarters of an hour; the last of them by itself, as it may
// end with the chunk. Steps that cannot be read are no reason to give up: the rows say
// the same.
func (sc *scan) steps(tx *gorm.DB, c chunkRow) (done bool, err error) {
	if err := readPayloads(tx, &c, []string{"steps"}); err != nil {
		return false, err
	}
	steps, err := c.steps(sc.want.Need)
	if err != nil {
		return false, nil
	}
	n := steps.Len()
	last := n-1 >= 0 && steps.Times[n-1] >= sc.want.From && steps.Times[n-1] < sc.want.To
	inner := steps.Rows(0, n-1).Between(sc.want.From, sc.want.To)
	if err := sc.emit(inner, stepWidth); err != nil || !last {
		return true, err
	}
	return true, sc.sink.Whole(steps.Times[n-1], c.until(), rollup.FromRow(steps, n-1, sc.series.Kind))
}

// spoilt notes a chunk that cannot be read and brings only what the head has of its
// time.
func (sc *scan) spoilt(tx *gorm.DB, c chunkRow, cause error, late column.Block) error {
	if !errors.Is(cause, chunk.ErrDamaged) {
		return cause
	}
	found := chunkRow{Series: c.Series, Tier: c.Tier}
	if err := tx.Take(&found, c.ID).Error; err != nil {
		return err
	}
	sc.broken = append(sc.broken, found.damage(cause))
	return sc.emit(late, c.Tier)
}

// readPayloads fills in the named SQL columns of a chunk.
func readPayloads(tx *gorm.DB, c *chunkRow, names []string) error {
	into := make([]any, len(names))
	for i, name := range names {
		into[i], _ = c.part(name)
	}
	return tx.Raw("SELECT "+strings.Join(names, ", ")+" FROM chunks WHERE id = ?", c.ID).Row().Scan(into...)
}
