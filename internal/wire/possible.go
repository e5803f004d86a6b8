package wire

import (
	"fmt"
	"math"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// slack is how far sums may be from what they should be, as they are rounded.
const slack = 1e-9

// possible refuses summaries that no readings can have.
func possible(kind series.Kind, tier series.Tier, rows column.Block) error {
	for i := range rows.Times {
		at := func(col int) float64 { return rows.Cols[col][i] }
		low, high := at(rollup.ColMin), at(rollup.ColMax)
		near := slack * max(math.Abs(low), math.Abs(high), 1e-300)
		within := func(v, from, to, near float64) bool { return v >= from-near && v <= to+near }
		var wrong string
		switch {
		case low > high:
			wrong = fmt.Sprintf("its min %v is above its max %v", low, high)
		case !within(at(rollup.ColMean), low, high, near):
			wrong = fmt.Sprintf("its mean %v is not between its min %v and max %v", at(rollup.ColMean), low, high)
		case !within(at(rollup.ColFirst), low, high, 0) || !within(at(rollup.ColLast), low, high, 0):
			wrong = fmt.Sprintf("its first %v and last %v are not between its min %v and max %v", at(rollup.ColFirst),
				at(rollup.ColLast), low, high)
		case at(rollup.ColM2) < -slack*at(rollup.ColCount)*max(low*low, high*high):
			wrong = fmt.Sprintf("its m2 %v is below 0", at(rollup.ColM2))
		case !within(at(rollup.ColCovered), 0, float64(tier), 0):
			wrong = fmt.Sprintf("it covers %v ns of a window of %d ns", at(rollup.ColCovered), tier)
		case at(rollup.ColFirstAt) > at(rollup.ColLastAt):
			wrong = fmt.Sprintf("its first reading, %v ns after its start, is later than its last, %v ns",
				at(rollup.ColFirstAt), at(rollup.ColLastAt))
		case kind == series.Counter && (at(rollup.ColIncrease) < 0 || at(rollup.ColRestarts) < 0):
			wrong = fmt.Sprintf("it grew by %v with %v restarts; neither can be below 0", at(rollup.ColIncrease),
				at(rollup.ColRestarts))
		case kind == series.State && at(rollup.ColChanges) < 0:
			wrong = fmt.Sprintf("it has %v changes", at(rollup.ColChanges))
		}
		for _, col := range []int{rollup.ColFirstAt, rollup.ColLastAt, rollup.ColMinAt, rollup.ColMaxAt} {
			if wrong == "" && !(at(col) >= 0 && at(col) < float64(tier)) {
				wrong = fmt.Sprintf("its %s is %v ns after its start, outside of the window of %d ns",
					rollup.Columns(kind)[col], at(col), tier)
			}
		}
		if wrong != "" {
			return fmt.Errorf("summary %d is not possible: %s", i, wrong)
		}
	}
	return nil
}

// clip shortens a text that is shown in a message.
func clip(text string) string { return text[:min(len(text), 100)] }
