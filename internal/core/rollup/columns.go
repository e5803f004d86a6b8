package rollup

import (
	"time"

	"nexocumula/internal/core/column"
)

// Columns name the value columns of a block of summaries, in order. The time of a
// row is its window's start; the times inside it are nanoseconds after that, which
// a float64 holds exactly for windows of up to 104 days.
var Columns = []string{
	"count", "mean", "m2", "min", "max", "first", "last",
	"min_at", "max_at", "first_at", "last_at", "covered", "north", "east",
}

// NewBlock makes an empty block of summaries.
func NewBlock(rows int) column.Block { return column.New(len(Columns), rows) }

// AddTo appends the summary of the window that starts at start as a row.
func (s Summary) AddTo(b *column.Block, start int64) {
	b.Add(start, s.Count, s.Mean, s.M2, s.Min, s.Max, s.First, s.Last,
		float64(s.MinAt-start), float64(s.MaxAt-start), float64(s.FirstAt-start), float64(s.LastAt-start),
		float64(s.Covered), s.North, s.East)
}

// FromRow reads row i of a block of summaries.
func FromRow(b column.Block, i int) Summary {
	c, start := b.Cols, b.Times[i]
	at := func(col int) int64 { return start + int64(c[col][i]) }
	return Summary{
		Count: c[0][i], Mean: c[1][i], M2: c[2][i], Min: c[3][i], Max: c[4][i], First: c[5][i], Last: c[6][i],
		MinAt: at(7), MaxAt: at(8), FirstAt: at(9), LastAt: at(10),
		Covered: time.Duration(c[11][i]), North: c[12][i], East: c[13][i],
	}
}
