package store

import (
	"fmt"
	"time"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

const (
	fullChunk  = 4096 // rows; a chunk with fewer is taken along by the next seal
	mostOfOne  = fullChunk + fullChunk/2
	stepWidth  = int64(15 * time.Minute)
	stepsOf    = rollup.Minute // the tier whose chunks have steps
	fewestRows = 4             // rows of a step on average that make steps worth their bytes
)

// makeChunks cuts rows of one series and tier into chunks and encodes them.
func makeChunks(at place, rows column.Block, def *series.Definition) ([]chunkRow, error) {
	var out []chunkRow
	for rows.Len() > 0 {
		month := rows.Rows(0, rows.Search(nextMonth(rows.Times[0])))
		rows = rows.Rows(month.Len(), rows.Len())
		for parts := (month.Len() + fullChunk/2) / fullChunk; month.Len() > 0; parts-- {
			n := month.Len()
			if n > mostOfOne {
				n /= max(2, parts)
			}
			c, err := makeChunk(at, month.Rows(0, n), def)
			if err != nil {
				return nil, err
			}
			out = append(out, c)
			month = month.Rows(n, month.Len())
		}
	}
	return out, nil
}

// nextMonth is the turn of the month after t. Chunks do not reach over it, so that
// what a series has of a month can go without touching the rest.
func nextMonth(t int64) int64 {
	at := time.Unix(0, t).UTC()
	return time.Date(at.Year(), at.Month()+1, 1, 0, 0, 0, 0, time.UTC).UnixNano()
}

func makeChunk(at place, rows column.Block, def *series.Definition) (chunkRow, error) {
	last := rows.Times[rows.Len()-1]
	c := chunkRow{Series: at.series, Tier: int64(at.tier), Start: rows.Times[0], End: last, Rows: rows.Len()}
	if err := c.addParts(rows); err != nil {
		return c, err
	}
	join := rollup.NewJoiner(def, rollup.NeedAll)
	join.Begin(c.Start)
	if at.tier == rollup.Readings {
		join.Readings(rows, 0, rows.Len())
	} else {
		join.Summaries(rows, 0, rows.Len(), int64(at.tier))
	}
	whole := rollup.NewBlock(def.Kind, 1)
	join.End(c.until()).AddTo(&whole, c.Start, def.Kind)
	var err error
	if c.Whole, err = chunk.EncodePlain(whole); err != nil || at.tier != stepsOf {
		return c, err
	}
	if steps := stepsOfRows(rows, def, c.until()); steps.Len()*fewestRows <= rows.Len() {
		c.Steps, err = chunk.Encode(steps)
	}
	return c, err
}

// until is the end of the time the chunk's rows are of.
func (c chunkRow) until() int64 { return c.End + max(1, c.Tier) }

// addParts encodes the columns. All parts but the first have the numbers of the rows
// as times, which costs next to nothing.
func (c *chunkRow) addParts(rows column.Block) (err error) {
	if c.Tier == int64(rollup.Readings) {
		c.Part0, err = chunk.Encode(rows)
		return err
	}
	for i, part := range []*[]byte{&c.Part0, &c.Part1, &c.Part2, &c.Part3} {
		from, to := partColumns(i, len(rows.Cols))
		if from == to {
			continue
		}
		b := column.Block{Times: rows.Times, Cols: rows.Cols[from:to]}
		if i > 0 {
			b.Times = rowNumbers(rows.Len())
		}
		if *part, err = chunk.Encode(b); err != nil {
			return err
		}
	}
	return nil
}

// partColumns are the columns from <= column < to that a part of summaries holds.
func partColumns(part, columns int) (from, to int) {
	to = columns
	if part+1 < len(rollup.Parts) {
		to = rollup.Parts[part+1]
	}
	return rollup.Parts[part], to
}

func rowNumbers(n int) []int64 {
	out := make([]int64, n)
	for i := range out {
		out[i] = int64(i)
	}
	return out
}

// stepsOfRows are the summaries of every quarter of an hour. The first is of the time
// from the chunk's first row on, and the last until its end.
func stepsOfRows(rows column.Block, def *series.Definition, until int64) column.Block {
	out := rollup.NewBlock(def.Kind, 0)
	for i := 0; i < rows.Len(); {
		end := rows.Times[i] - rows.Times[i]%stepWidth + stepWidth
		k := rows.Search(end)
		inner := rollup.NewJoiner(def, rollup.NeedAll) // steps are joined again later, with what is between them
		inner.Begin(rows.Times[i])
		inner.Summaries(rows, i, k, int64(stepsOf))
		inner.End(min(end, until)).AddTo(&out, rows.Times[i], def.Kind)
		i = k
	}
	return out
}

var allParts = []string{"part0", "part1", "part2", "part3"}

// chunkParts are the SQL columns with what is needed of a tier's columns.
func chunkParts(tier rollup.Tier, need rollup.Need) []string {
	names := []string{"part0"}
	if tier == rollup.Readings {
		return names
	}
	for part := 1; part < len(rollup.Parts); part++ {
		from, to := partColumns(part, rollup.ColStates+1)
		for col := from; col < to; col++ {
			if need.Has(col) {
				names = append(names, fmt.Sprintf("part%d", part))
				break
			}
		}
	}
	return names
}

// part returns the place of a part by the name of its SQL column.
func (c *chunkRow) part(name string) (*[]byte, int) {
	for i, p := range []*[]byte{&c.Part0, &c.Part1, &c.Part2, &c.Part3} {
		if name == fmt.Sprintf("part%d", i) {
			return p, i
		}
	}
	return &c.Steps, 0
}

// rows decodes the needed columns of the parts that were read.
func (c *chunkRow) rows(names []string, need rollup.Need) (column.Block, error) {
	if c.Tier == int64(rollup.Readings) {
		return chunk.Decode(c.Part0)
	}
	var b column.Block
	for _, name := range names {
		data, part := c.part(name)
		if *data == nil {
			continue // the kind has no such columns
		}
		p, err := chunk.Open(*data)
		if err != nil {
			return b, fmt.Errorf("part %d: %w", part, err)
		}
		if p.Len() != c.Rows {
			return b, fmt.Errorf("part %d: %w: %d rows where the chunk has %d", part, chunk.ErrDamaged, p.Len(), c.Rows)
		}
		if part == 0 {
			if b.Times, err = p.Times(); err != nil {
				return b, fmt.Errorf("part 0: %w", err)
			}
		}
		if err := addColumns(&b, p, rollup.Parts[part], need); err != nil {
			return b, fmt.Errorf("part %d: %w", part, err)
		}
	}
	return b, nil
}

// addColumns decodes the needed ones of p's columns, the first of which is first.
func addColumns(b *column.Block, p *chunk.Packed, first int, need rollup.Need) (err error) {
	if want := first + p.Columns(); len(b.Cols) < want {
		b.Cols = append(b.Cols, make([][]float64, want-len(b.Cols))...)
	}
	for i := range p.Columns() {
		if need.Has(first + i) {
			if b.Cols[first+i], err = p.Column(i); err != nil {
				return err
			}
		}
	}
	return nil
}

// steps decodes the needed columns of the steps.
func (c *chunkRow) steps(need rollup.Need) (b column.Block, err error) {
	p, err := chunk.Open(c.Steps)
	if err != nil {
		return b, err
	}
	if b.Times, err = p.Times(); err != nil {
		return b, err
	}
	return b, addColumns(&b, p, 0, need)
}

// whole is the chunk as one summary.
func (c *chunkRow) whole(kind series.Kind) (rollup.Summary, error) {
	b, err := chunk.Decode(c.Whole)
	if err != nil {
		return rollup.Summary{}, err
	}
	if b.Len() != 1 || len(b.Cols) < len(rollup.Columns(kind)) {
		return rollup.Summary{}, fmt.Errorf("%w: a synopsis of %d rows and %d columns", chunk.ErrDamaged, b.Len(), len(b.Cols))
	}
	return rollup.FromRow(b, 0, kind), nil
}
