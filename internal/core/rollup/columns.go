package rollup

import (
	"fmt"
	"math"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// The value columns of a block of summaries. The time of a row is its window's start;
// the times inside it are nanoseconds after that, which a float64 holds exactly for
// windows of up to 104 days.
//
// They stand in the order in which queries want them, see Parts. What follows Common
// is up to the kind: bearings have north and east, counters increase and restarts,
// states changes and then, for as many values as a row of the block needs, value and
// nanoseconds held. Missing pairs are 0 and 0.
const (
	ColCount = iota
	ColMean
	ColMin
	ColMax
	ColCovered
	ColLast
	ColLastAt
	ColFirst
	ColM2
	ColHeld
	ColMinAt
	ColMaxAt
	ColFirstAt
	Common

	ColNorth    = Common
	ColEast     = Common + 1
	ColIncrease = Common
	ColRestarts = Common + 1
	ColChanges  = Common
	ColStates   = Common + 1
)

// Parts are the runs of columns that are stored apart, each from one of these to the
// next: what every query wants or nearly every one, what some do, times, and what is of a
// kind.
var Parts = []int{ColCount, ColFirst, ColMinAt, Common}

// Columns name the columns of a kind's summaries, without the pairs of states.
func Columns(kind series.Kind) []string {
	names := []string{
		"count", "mean", "min", "max", "covered", "last", "last_at", "first", "m2", "held", "min_at", "max_at", "first_at",
	}
	switch kind {
	case series.Bearing:
		names = append(names, "north", "east")
	case series.Counter:
		names = append(names, "increase", "restarts")
	case series.State:
		names = append(names, "changes")
	}
	return names
}

// ColumnsOf names all columns of a block of a kind that has width of them; the pairs of
// states are state_1, held_1 and so on. ok is false when there is no such block.
func ColumnsOf(kind series.Kind, width int) (names []string, ok bool) {
	names = Columns(kind)
	if kind == series.State {
		for i := 1; len(names)+2 <= width && i <= MostStates; i++ {
			names = append(names, fmt.Sprintf("state_%d", i), fmt.Sprintf("held_%d", i))
		}
	}
	return names, len(names) == width
}

// NewBlock makes an empty block of a kind's summaries.
func NewBlock(kind series.Kind, rows int) column.Block { return column.New(len(Columns(kind)), rows) }

// AddTo appends the summary of the window that starts at start as a row.
func (s Summary) AddTo(b *column.Block, start int64, kind series.Kind) {
	row := make([]float64, Common, Common+2+2*len(s.States))
	copy(row, []float64{
		s.Count, s.Mean, s.Min, s.Max, float64(s.Covered), s.Last, float64(s.LastAt - start),
		s.First, s.M2, s.Held, float64(s.MinAt - start), float64(s.MaxAt - start), float64(s.FirstAt - start),
	})
	switch kind {
	case series.Bearing:
		row = append(row, s.North, s.East)
	case series.Counter:
		row = append(row, s.Increase, s.Restarts)
	case series.State:
		row = append(row, s.Changes)
		for _, one := range s.States {
			row = append(row, one.Value, float64(one.Held))
		}
	}
	b.Add(start, row...)
}

// FromRow reads row i of a block of summaries; what was left out of it is 0.
func FromRow(b column.Block, i int, kind series.Kind) Summary {
	get := func(col int) float64 {
		if col >= len(b.Cols) || b.Cols[col] == nil {
			return 0
		}
		return b.Cols[col][i]
	}
	at := func(col int) int64 { return b.Times[i] + int64(get(col)) }
	s := Summary{
		Count: get(ColCount), Mean: get(ColMean), M2: get(ColM2), Min: get(ColMin), Max: get(ColMax),
		First: get(ColFirst), Last: get(ColLast), Covered: time.Duration(get(ColCovered)), Held: get(ColHeld),
		MinAt: at(ColMinAt), MaxAt: at(ColMaxAt), FirstAt: at(ColFirstAt), LastAt: at(ColLastAt),
	}
	s.Growing = time.Duration(s.LastAt - s.FirstAt)
	switch kind {
	case series.Bearing:
		s.North, s.East = get(ColNorth), get(ColEast)
	case series.Counter:
		s.Increase, s.Restarts = get(ColIncrease), get(ColRestarts)
	case series.State:
		s.Changes, s.States = get(ColChanges), statesOf(b, i, nil)
	}
	return s
}

// statesOf adds the pairs of row i to to.
func statesOf(b column.Block, i int, to States) States {
	for col := ColStates; col+1 < len(b.Cols); col += 2 {
		if b.Cols[col] == nil {
			break
		}
		to = to.add(b.Cols[col][i], time.Duration(b.Cols[col+1][i]))
	}
	return to
}

// Need says which columns are wanted, as a set of bits; those from ColStates on go
// together.
type Need uint64

// NeedAll wants every column.
const NeedAll = Need(math.MaxUint64)

// Wants makes a set.
func Wants(cols ...int) (n Need) {
	for _, c := range cols {
		n |= 1 << min(c, ColStates)
	}
	return n
}

// Has reports whether a column is wanted.
func (n Need) Has(col int) bool { return n>>min(col, ColStates)&1 != 0 }
