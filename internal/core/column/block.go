package column

import (
	"fmt"
	"slices"
	"sort"
)

// Block is a run of rows of one series.
//
// Invariants, once Normalize has run: Times strictly ascend, and every column is
// as long as Times, or nil where it was left out by Pick. Columns may be missing at
// the end: put together with a block that has them, they are 0.
type Block struct {
	Times []int64 // nanoseconds since 1970-01-01T00:00:00Z
	Cols  [][]float64
}

// New makes an empty block of width columns with room for rows.
func New(width, rows int) Block {
	return Block{Times: make([]int64, 0, rows), Cols: columns(width, 0, rows)}
}

// columns makes columns of so many rows, with room for more, in one piece of memory.
func columns(width, rows, room int) [][]float64 {
	all, out := make([]float64, width*room), make([][]float64, width)
	for i := range out {
		out[i] = all[i*room : i*room+rows : (i+1)*room]
	}
	return out
}

// Len returns the number of rows.
func (b Block) Len() int { return len(b.Times) }

// Check reports a column that is not as long as the times. Left out ones are wrong too.
func (b Block) Check() error {
	for i, c := range b.Cols {
		if len(c) != len(b.Times) {
			return fmt.Errorf("column %d has %d rows where the times have %d", i, len(c), len(b.Times))
		}
	}
	return nil
}

// Add appends one row, in whatever order.
func (b *Block) Add(t int64, values ...float64) {
	b.widen(len(values))
	b.Times = append(b.Times, t)
	for i := range b.Cols {
		v := 0.0
		if i < len(values) {
			v = values[i]
		}
		b.Cols[i] = append(b.Cols[i], v)
	}
}

// widen adds columns of 0 until there are width.
func (b *Block) widen(width int) {
	if width <= len(b.Cols) {
		return
	}
	cols := make([][]float64, width)
	copy(cols, b.Cols)
	for i := len(b.Cols); i < width; i++ {
		cols[i] = make([]float64, len(b.Times))
	}
	b.Cols = cols
}

// Pick returns the block with only the wanted columns; the others are nil.
func (b Block) Pick(wanted func(col int) bool) Block {
	out := Block{Times: b.Times, Cols: make([][]float64, len(b.Cols))}
	for i, c := range b.Cols {
		if wanted(i) {
			out.Cols[i] = c
		}
	}
	return out
}

// Append adds all rows of o after b's, in whatever order.
func (b *Block) Append(o Block) {
	if len(b.Times) == 0 {
		b.Cols = make([][]float64, len(o.Cols))
	}
	b.widen(len(o.Cols))
	before, after := len(b.Times), len(b.Times)+len(o.Times)
	var cols [][]float64 // others may see b.Cols
	if room := cap(b.Times); room < after {
		room = max(after, min(2*room, room+room/4+mostSpare))
		cols = columns(len(b.Cols), after, room)
		b.Times = append(make([]int64, 0, room), b.Times...)
		for i, c := range b.Cols {
			copy(cols[i], c)
		}
	} else {
		cols = make([][]float64, len(b.Cols))
		for i, c := range b.Cols {
			cols[i] = append(c, make([]float64, len(o.Times))...)
		}
	}
	for i := range cols {
		switch {
		case before > 0 && b.Cols[i] == nil: // nobody needs it
			cols[i] = nil
		case i >= len(o.Cols):
			clear(cols[i][before:])
		case o.Cols[i] != nil:
			copy(cols[i][before:], o.Cols[i])
		default:
			cols[i] = nil
		}
	}
	b.Cols = cols
	b.Times = append(b.Times, o.Times...)
}

// mostSpare rows and a quarter is the room, at most, that a block takes for rows that may come.
const mostSpare = 1024

// Clone copies the rows.
func (b Block) Clone() Block {
	c := Block{Times: slices.Clone(b.Times), Cols: columns(len(b.Cols), len(b.Times), len(b.Times))}
	for i, col := range b.Cols {
		if col == nil {
			c.Cols[i] = nil
			continue
		}
		copy(c.Cols[i], col)
	}
	return c
}

// Rows returns the view of rows i to j, sharing memory.
func (b Block) Rows(i, j int) Block {
	c := Block{Times: b.Times[i:j:j], Cols: make([][]float64, len(b.Cols))}
	for k := range b.Cols {
		if b.Cols[k] != nil {
			c.Cols[k] = b.Cols[k][i:j:j]
		}
	}
	return c
}

// Search returns the index of the first row at or after t. Normalized blocks only.
func (b Block) Search(t int64) int {
	return sort.Search(len(b.Times), func(i int) bool { return b.Times[i] >= t })
}

// Between returns the view of the rows with from <= time < to. Normalized blocks only.
func (b Block) Between(from, to int64) Block {
	i := b.Search(from)
	return b.Rows(i, max(i, b.Search(to)))
}

// Ordered reports whether the times strictly ascend. One pass.
func (b Block) Ordered() bool {
	for i := 1; i < len(b.Times); i++ {
		if b.Times[i] <= b.Times[i-1] {
			return false
		}
	}
	return true
}

// Normalize sorts the rows by time; of rows with the same time the one added last
// stays. A block already in order costs one pass and no memory.
func (b Block) Normalize() Block {
	if b.Ordered() {
		return b
	}
	order := make([]int, len(b.Times))
	for i := range order {
		order[i] = i
	}
	sort.SliceStable(order, func(i, j int) bool { return b.Times[order[i]] < b.Times[order[j]] })
	kept := order[:0] // never beyond where it is read
	for k, i := range order {
		if k+1 < len(order) && b.Times[order[k+1]] == b.Times[i] {
			continue // a later row of the same time wins
		}
		kept = append(kept, i)
	}
	return b.rowsAt(kept)
}

// rowsAt returns a copy of the rows in the given order.
func (b Block) rowsAt(order []int) Block {
	out := Block{Times: make([]int64, len(order)), Cols: make([][]float64, len(b.Cols))}
	for k, i := range order {
		out.Times[k] = b.Times[i]
	}
	for c, col := range b.Cols {
		if col == nil {
			continue
		}
		out.Cols[c] = make([]float64, len(order))
		for k, i := range order {
			out.Cols[c][k] = col[i]
		}
	}
	return out
}

// Merge puts newer over older: where both have a time, newer's row stays. Both
// must be normalized. When newer begins after older's end, its rows are simply
// appended, which is how live data arrives; otherwise only the rows from newer's
// begin on are sorted again. Rows that others still see are never overwritten.
func Merge(older, newer Block) Block {
	if older.Len() == 0 {
		return newer
	}
	if newer.Len() == 0 {
		return older
	}
	if newer.Times[0] > older.Times[older.Len()-1] {
		older.Append(newer)
		return older
	}
	cut := older.Search(newer.Times[0])
	tail := older.Rows(cut, older.Len()).Clone()
	tail.Append(newer)
	merged := older.Rows(0, cut) // a view without spare room: Append copies it
	merged.Append(tail.Normalize())
	return merged
}
