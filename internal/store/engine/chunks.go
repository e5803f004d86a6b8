package engine

import (
	"fmt"
	"sync"
	"time"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

const (
	fullChunk  = 8192 // rows; a chunk with fewer is taken along by the next seal
	mostOfOne  = fullChunk + fullChunk/2
	stepWidth  = int64(15 * time.Minute)
	quickRows  = 64 // a chunk with fewer is made without much effort: it will soon be part of another
	fewestRows = 4  // rows of a step on average that make steps worth their bytes
)

// makeChunks cuts rows of one series and tier into chunks and encodes them.
func makeChunks(at seriesTier, rows column.Block, def *series.Definition) ([]sqlite.Chunk, error) {
	var out []sqlite.Chunk
	for rows.Len() > 0 {
		month := rows.Rows(0, max(1, rows.Search(nextMonth(rows.Times[0])))) // at the end of time there is no next one
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

// nextMonth returns the turn of the month after t. Chunks do not reach over it, so that
// what a series has of a month can go without touching the rest.
func nextMonth(t int64) int64 {
	at := time.Unix(0, t).UTC()
	return time.Date(at.Year(), at.Month()+1, 1, 0, 0, 0, 0, time.UTC).UnixNano()
}

func makeChunk(at seriesTier, rows column.Block, def *series.Definition) (sqlite.Chunk, error) {
	last := rows.Times[rows.Len()-1]
	c := sqlite.Chunk{Series: at.series, Tier: int64(at.tier), FirstAt: rows.Times[0], LastAt: last, Count: rows.Len()}
	if err := addParts(&c, rows); err != nil {
		return c, err
	}
	join := rollup.NewJoiner(def, rollup.NeedAll)
	join.Begin(c.FirstAt)
	if at.tier == series.Readings {
		join.Readings(rows, 0, rows.Len())
	} else {
		join.Summaries(rows, 0, rows.Len(), int64(at.tier))
	}
	whole := rollup.NewBlock(def.Kind, 1)
	join.End(until(&c)).AddTo(&whole, c.FirstAt, def.Kind)
	var err error
	if c.Whole, err = chunk.EncodePlain(whole); err != nil {
		return c, err
	}
	if at.tier != series.Readings && at.tier == StepsOf(def.Tiers) && rows.Len() >= quickRows {
		if steps := stepsOfRows(at.tier, rows, def, until(&c)); steps.Len()*fewestRows <= rows.Len() {
			err = addSteps(&c, steps)
		}
	}
	c.Complete()
	return c, err
}

// until returns the end of the time the chunk's rows are of.
func until(c *sqlite.Chunk) int64 { return c.LastAt + max(1, c.Tier) }

// addParts encodes the columns. All parts but the first have the numbers of the rows
// as times, which costs next to nothing.
func addParts(c *sqlite.Chunk, rows column.Block) (err error) {
	encode := chunk.Encode
	if rows.Len() < quickRows {
		encode = chunk.EncodeQuick
	}
	if c.Tier == int64(series.Readings) {
		c.Part0, err = encode(rows)
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
		if *part, err = encode(b); err != nil {
			return err
		}
	}
	return nil
}

// addSteps encodes the steps in two runs of columns.
func addSteps(c *sqlite.Chunk, steps column.Block) (err error) {
	c.Steps = steps.Len()
	cut := rollup.Parts[1]
	if c.Step0, err = chunk.EncodeQuick(column.Block{Times: steps.Times, Cols: steps.Cols[:cut]}); err != nil {
		return err
	}
	c.Step1, err = chunk.EncodeQuick(column.Block{Times: rowNumbers(steps.Len()), Cols: steps.Cols[cut:]})
	return err
}

// stepParts returns the parts with what is needed of steps.
func stepParts(need rollup.Need) []sqlite.Part {
	for col := rollup.Parts[1]; col <= rollup.ColStates; col++ {
		if need.Has(col) {
			return []sqlite.Part{sqlite.Step0, sqlite.Step1}
		}
	}
	return []sqlite.Part{sqlite.Step0}
}

// partColumns returns the columns from <= column < to that a part of summaries holds.
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

// StepsOf returns the tier whose chunks have steps: the widest of which some make a quarter of an hour; 0 when there is
// none.
func StepsOf(tiers series.Tiers) (out series.Tier) {
	for _, tier := range tiers.All() {
		if int64(tier) < stepWidth && stepWidth%int64(tier) == 0 {
			out = tier
		}
	}
	return out
}

// stepsOfRows returns the summaries of every quarter of an hour. The first is of the time
// from the chunk's first row on, and the last until its end.
func stepsOfRows(tier series.Tier, rows column.Block, def *series.Definition, until int64) column.Block {
	out := rollup.NewBlock(def.Kind, 0)
	for i := 0; i < rows.Len(); {
		end := rows.Times[i] - rows.Times[i]%stepWidth + stepWidth
		k := rows.Search(end)
		inner := rollup.NewJoiner(def, rollup.NeedAll) // steps are joined again later, with what is between them
		inner.Begin(rows.Times[i])
		inner.Summaries(rows, i, k, int64(tier))
		inner.End(min(end, until)).AddTo(&out, rows.Times[i], def.Kind)
		i = k
	}
	return out
}

var allParts = []sqlite.Part{sqlite.Part0, sqlite.Part1, sqlite.Part2, sqlite.Part3}

// chunkParts returns the parts with what is needed of a tier's columns.
func chunkParts(tier series.Tier, need rollup.Need) []sqlite.Part {
	parts := []sqlite.Part{sqlite.Part0}
	if tier == series.Readings {
		return parts
	}
	for i := 1; i < len(rollup.Parts); i++ {
		from, to := partColumns(i, rollup.ColStates+1)
		for col := from; col < to; col++ {
			if need.Has(col) {
				parts = append(parts, sqlite.Part0+sqlite.Part(i))
				break
			}
		}
	}
	return parts
}

// rowsOf decodes the needed columns of the parts that were read.
func rowsOf(c *sqlite.Chunk, parts []sqlite.Part, need rollup.Need, room *buffers) (column.Block, error) {
	var b column.Block
	if c.Tier == int64(series.Readings) {
		need = rollup.NeedAll
	}
	for _, stored := range parts {
		data, part := c.Payload(stored), int(stored-sqlite.Part0)
		if *data == nil {
			continue // the kind has no such columns
		}
		p, err := chunk.Open(*data)
		if err != nil {
			return b, fmt.Errorf("part %d: %w", part, err)
		}
		if p.Len() != c.Count {
			return b, fmt.Errorf("part %d: %w: %d rows where the chunk has %d", part, chunk.ErrDamaged, p.Len(),
				c.Count)
		}
		if part == 0 {
			if b.Times, err = room.timesOf(p); err != nil {
				return b, fmt.Errorf("part 0: %w", err)
			}
		}
		if err := room.addColumns(&b, p, rollup.Parts[part], need); err != nil {
			return b, fmt.Errorf("part %d: %w", part, err)
		}
	}
	return b, nil
}

// buffers are where blocks are decoded into that live only until the next; nil makes
// each anew.
type buffers struct {
	times []int64
	cols  [][]float64
}

// spare holds buffers that no scan uses.
var spare = sync.Pool{New: func() any { return &buffers{} }}

func (r *buffers) timesOf(p *chunk.Packed) (times []int64, err error) {
	if r == nil {
		return p.Times(nil)
	}
	times, err = p.Times(r.times)
	r.times = times
	return times, err
}

// addColumns decodes the needed ones of p's columns, the first of which is first.
func (r *buffers) addColumns(b *column.Block, p *chunk.Packed, first int, need rollup.Need) (err error) {
	if want := first + p.Columns(); len(b.Cols) < want {
		b.Cols = append(b.Cols, make([][]float64, want-len(b.Cols))...)
	}
	for i := range p.Columns() {
		if !need.Has(first + i) {
			continue
		}
		var into []float64
		if r != nil {
			for len(r.cols) <= first+i {
				r.cols = append(r.cols, nil)
			}
			into = r.cols[first+i]
		}
		if b.Cols[first+i], err = p.Column(i, into); err != nil {
			return err
		}
		if r != nil {
			r.cols[first+i] = b.Cols[first+i]
		}
	}
	return nil
}

// stepsIn decodes the needed columns of the steps that were read.
func stepsIn(c *sqlite.Chunk, parts []sqlite.Part, need rollup.Need, room *buffers) (b column.Block, err error) {
	for i, stored := range parts {
		p, err := chunk.Open(*c.Payload(stored))
		if err != nil {
			return b, err
		}
		if p.Len() != c.Steps {
			return b, fmt.Errorf("%w: %d steps where the chunk has %d", chunk.ErrDamaged, p.Len(), c.Steps)
		}
		if i == 0 {
			if b.Times, err = room.timesOf(p); err != nil {
				return b, err
			}
		}
		if err := room.addColumns(&b, p, rollup.Parts[i], need); err != nil {
			return b, err
		}
	}
	return b, nil
}

// check compares what stands beside the payloads with its checksum.
func check(c *sqlite.Chunk) error {
	if !c.Matches() {
		return fmt.Errorf("%w: series, tier, times or counts do not match their checksum", chunk.ErrDamaged)
	}
	return nil
}

// wholeOf returns the chunk as one summary.
func wholeOf(c *sqlite.Chunk, kind series.Kind) (rollup.Summary, error) {
	b, err := chunk.Decode(c.Whole)
	if err != nil {
		return rollup.Summary{}, err
	}
	if b.Len() != 1 || len(b.Cols) < len(rollup.Columns(kind)) {
		return rollup.Summary{}, fmt.Errorf("%w: a synopsis of %d rows and %d columns", chunk.ErrDamaged, b.Len(),
			len(b.Cols))
	}
	return rollup.FromRow(b, 0, kind), nil
}
