package engine

import (
	"context"
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Fault is something of a store that is not as it was written, or cannot be true.
type Fault struct {
	Place    string // the table
	ID       uint64 // of the row; 0: it is about the table
	Series   string // path; empty where it is of no one series
	SeriesID uint32 // 0 without one
	Tier     series.Tier
	From, To int64 // time of the rows that it is about, both included; 0 without any
	Rows     int
	Text     string
}

// Verifier looks whether what a file says is whole and agrees with itself. The file may be in use meanwhile: what
// a service replaces while it is looked at is looked at again.
type Verifier struct {
	DB    *gorm.DB
	Found func(Fault)
	// Read, if given, is told how many bytes were read, and may wait; an error of it ends the look.
	Read func(ctx context.Context, bytes int) error
	// Sums has chunks compared with their checksums, and not their parts with each other.
	Sums bool

	known       map[uint32]*series.Definition
	rows, steps buffers // that chunks are decoded into
}

// Verify looks through the series, their chunks, patches and latest values, and the journal.
func (v *Verifier) Verify(ctx context.Context) error {
	for _, look := range []func(context.Context) error{v.definitions, v.latest, v.journal, v.chunks, v.patches} {
		if err := look(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (v *Verifier) read(ctx context.Context, bytes int) error {
	if v.Read == nil {
		return ctx.Err()
	}
	return v.Read(ctx, bytes)
}

// Count returns how many series are defined.
func (v *Verifier) Count() int { return len(v.known) }

// Known returns the path of a series; empty when there is none of that number.
func (v *Verifier) Known(id uint32) string {
	if def := v.known[id]; def != nil {
		return string(def.Path)
	}
	return ""
}

func (v *Verifier) definitions(ctx context.Context) error {
	v.known = map[uint32]*series.Definition{}
	var rows []seriesRow
	if err := v.DB.WithContext(ctx).Order("id").Find(&rows).Error; err != nil {
		return fmt.Errorf("reading the definitions: %w", err)
	}
	read := map[string]series.Definition{}
	for _, r := range rows {
		def, err := r.definition(read)
		if err != nil {
			v.Found(Fault{Place: "series", ID: uint64(r.ID), Series: r.Path, Text: err.Error()})
			continue
		}
		v.known[r.ID] = &def
		if err := v.read(ctx, len(r.Definition)); err != nil {
			return err
		}
	}
	return nil
}

func (v *Verifier) latest(ctx context.Context) error {
	var rows []latestRow
	if err := v.DB.WithContext(ctx).Order("id").Find(&rows).Error; err != nil {
		return fmt.Errorf("reading the latest values: %w", err)
	}
	for _, r := range rows {
		if err := r.each(func(Series) {}); err != nil {
			v.Found(Fault{Place: "latest", ID: uint64(r.ID), Text: err.Error()})
		}
		if err := v.read(ctx, len(r.Payload)); err != nil {
			return err
		}
	}
	return nil
}

func (v *Verifier) journal(ctx context.Context) error {
	rows, err := v.DB.WithContext(ctx).Model(&journalRow{}).Order("id").Rows()
	if err != nil {
		return fmt.Errorf("reading the journal: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var row journalRow
		if err := v.DB.ScanRows(rows, &row); err != nil {
			return fmt.Errorf("reading the journal: %w", err)
		}
		entries, _, err := decodeJournal(row.Payload)
		if err != nil {
			v.Found(Fault{Place: "journal", ID: row.ID, Text: err.Error()})
		}
		for _, e := range entries {
			if v.known[e.Series] == nil {
				v.Found(Fault{
					Place: "journal", ID: row.ID, Tier: e.Tier, From: e.Rows.Times[0], To: e.Rows.Times[e.Rows.Len()-1], Rows: e.Rows.Len(),
					Text: fmt.Sprintf("rows of a series %d that is not defined", e.Series),
				})
			}
		}
		if err := v.read(ctx, len(row.Payload)); err != nil {
			return err
		}
	}
	return rows.Err()
}

// chunksAtOnce is how many chunks are read in one go, so that no transaction lasts long: while one does, a service
// cannot take its log back.
const chunksAtOnce = 32

func (v *Verifier) chunks(ctx context.Context) error {
	var before sqlite.Chunk
	for {
		some, err := sqlite.ChunksAfter(v.DB.WithContext(ctx), before, chunksAtOnce)
		if err != nil {
			return fmt.Errorf("reading chunks: %w", err)
		}
		for _, c := range some {
			if before.ID != 0 && before.Series == c.Series && before.Tier == c.Tier && c.FirstAt <= before.LastAt {
				both, err := sqlite.ChunksOf(v.DB.WithContext(ctx), []uint64{before.ID, c.ID}, nil)
				if err != nil {
					return fmt.Errorf("reading chunks: %w", err)
				}
				if len(both) == 2 { // else one has taken the place of the other
					v.Found(v.faultOf(&c, fmt.Errorf("it overlaps with chunk %d", before.ID)))
				}
			}
			if err := v.chunk(&c); err != nil {
				v.Found(v.faultOf(&c, err))
			}
			if err := v.read(ctx, c.Size()); err != nil {
				return err
			}
			before = c
		}
		if len(some) < chunksAtOnce {
			return nil
		}
	}
}

func (v *Verifier) faultOf(c *sqlite.Chunk, err error) Fault {
	return Fault{
		Place: "chunks", ID: c.ID, Series: v.Known(c.Series), SeriesID: c.Series, Tier: series.Tier(c.Tier), From: c.FirstAt, To: c.LastAt, Rows: c.Count,
		Text: err.Error(),
	}
}

// chunk compares the parts of a chunk with each other.
func (v *Verifier) chunk(c *sqlite.Chunk) error {
	if err := check(c); err != nil {
		return err
	}
	def := v.known[c.Series]
	if def == nil {
		return fmt.Errorf("it is of a series %d that is not defined", c.Series)
	}
	if v.Sums {
		return sums(c)
	}
	need := compared(def.Kind)
	rows, err := rowsOf(c, chunkParts(series.Tier(c.Tier), rollup.NeedAll), need, &v.rows) // all parts have checksums
	if err != nil {
		return err
	}
	if err := sound(rows, c.FirstAt, c.LastAt, c.Count); err != nil {
		return err
	}
	whole, err := wholeOf(c, def.Kind)
	if err != nil {
		return fmt.Errorf("its synopsis: %w", err)
	}
	if err := agree(whole, summaryOf(rows, c, def, need)); err != nil {
		return fmt.Errorf("its synopsis says %w", err)
	}
	if c.Steps == 0 {
		return nil
	}
	steps, err := stepsIn(c, []sqlite.Part{sqlite.Step0, sqlite.Step1}, need, &v.steps)
	if err != nil {
		return fmt.Errorf("its steps: %w", err)
	}
	for i, at := range steps.Times {
		k := rows.Search(at)
		some := rows.Rows(k, max(k, rows.Search(stepEnd(c, steps, i))))
		if some.Len() == 0 {
			return fmt.Errorf("it has a step at %d without rows", at)
		}
		if err := agree(rollup.FromRow(steps, i, def.Kind), summaryOf(some, c, def, need)); err != nil {
			return fmt.Errorf("its step at %d says %w", at, err)
		}
	}
	return nil
}

// sums compares all parts of a chunk with their checksums.
func sums(c *sqlite.Chunk) error {
	for _, part := range append(chunkParts(series.Tier(c.Tier), rollup.NeedAll), sqlite.Whole, sqlite.Step0, sqlite.Step1) {
		if data := *c.Payload(part); data != nil {
			if _, err := chunk.Open(data); err != nil {
				return fmt.Errorf("a part of it: %w", err)
			}
		}
	}
	return nil
}

// sound looks whether rows are as many as they are said to be, in order, and between two times.
func sound(rows column.Block, first, last int64, count int) error {
	switch {
	case rows.Len() != count:
		return fmt.Errorf("%w: %d rows instead of %d", chunk.ErrDamaged, rows.Len(), count)
	case !rows.Ordered():
		return fmt.Errorf("%w: times do not strictly ascend", chunk.ErrDamaged)
	case rows.Times[0] != first || rows.Times[count-1] != last:
		return fmt.Errorf("%w: the first or last time is another than its rows have", chunk.ErrDamaged)
	}
	return nil
}

// compared are the columns that are compared. Those of kinds that have more are computed from all.
func compared(kind series.Kind) rollup.Need {
	if kind != series.Gauge {
		return rollup.NeedAll
	}
	return rollup.Wants(rollup.ColCount, rollup.ColMin, rollup.ColMax, rollup.ColFirst, rollup.ColLast, rollup.ColMinAt, rollup.ColMaxAt)
}

func summaryOf(rows column.Block, c *sqlite.Chunk, def *series.Definition, need rollup.Need) rollup.Summary {
	join := rollup.NewJoiner(def, need)
	join.Begin(rows.Times[0])
	if c.Tier == int64(series.Readings) {
		join.Readings(rows, 0, rows.Len())
	} else {
		join.Summaries(rows, 0, rows.Len(), c.Tier)
	}
	return join.End(until(c))
}

// agree compares what does not change with the definition of a series: of how many readings a summary is, and the
// lowest, highest, first and last.
func agree(says, is rollup.Summary) error {
	for _, fact := range []struct {
		name     string
		says, is float64
	}{
		{"count", says.Count, is.Count}, {"min", says.Min, is.Min}, {"max", says.Max, is.Max}, {"first", says.First, is.First}, {"last", says.Last, is.Last},
		{"min_at", float64(says.MinAt), float64(is.MinAt)}, {"max_at", float64(says.MaxAt), float64(is.MaxAt)},
	} {
		if fact.says != fact.is && (fact.says == fact.says || fact.is == fact.is) { // NaN is like NaN
			return fmt.Errorf("%s %v where its rows have %v", fact.name, fact.says, fact.is)
		}
	}
	return nil
}

func (v *Verifier) patches(ctx context.Context) error {
	var last uint64
	for {
		some, err := sqlite.PatchesAfter(v.DB.WithContext(ctx), last, chunksAtOnce)
		if err != nil {
			return fmt.Errorf("reading patches: %w", err)
		}
		for i := range some {
			p := &some[i]
			rows, err := rowsOfPatch(p, rollup.NeedAll)
			if err == nil {
				err = sound(rows, p.FirstAt, p.LastAt, p.Count)
			}
			if err == nil && v.known[p.Series] == nil {
				err = fmt.Errorf("it is of a series %d that is not defined", p.Series)
			}
			if err != nil {
				v.Found(Fault{
					Place: "patches", ID: p.ID, Series: v.Known(p.Series), SeriesID: p.Series, Tier: series.Tier(p.Tier), From: p.FirstAt, To: p.LastAt, Rows: p.Count,
					Text: err.Error(),
				})
			}
			if err := v.read(ctx, len(p.Payload)); err != nil {
				return err
			}
			last = p.ID
		}
		if len(some) < chunksAtOnce {
			return nil
		}
	}
}
