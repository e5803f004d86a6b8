package query

import (
	"fmt"
	"math"

	"nexocumula/internal/core/window"
)

// uncertain is one stat of many series, some of which may only be known to lie between bounds, or not at all. A series
// without readings does not count; one with readings and without a number must not be left out as if it had none.
type uncertain struct {
	combined
	least, most *combined // nil of stats that are never known by bounds
	unknown     []int     // series with readings and neither a number nor bounds that can be put together
}

func newUncertain(n int, across Across, members int, stat window.Stat) uncertain {
	u := uncertain{combined: newCombined(n, across, members), unknown: make([]int, n)}
	// Each of the functions but sd grows with what it is of, so bounds of the members give those of the whole.
	if stat.Bounded() && across.Function != "sd" {
		least, most := newCombined(n, across, members), newCombined(n, across, members)
		u.least, u.most = &least, &most
	}
	return u
}

// member adds a series' rows of stat i; the last place holds all windows taken as one.
func (u *uncertain) member(rows SeriesRows, i int, weight float64) {
	n := len(rows.Rows.Stats[i])
	for k, v := range rows.Rows.Stats[i] {
		unknown := rows.Unknown[i] != nil && rows.Unknown[i][k]
		if rows.Least[i] != nil {
			u.take(k, v, rows.Least[i][k], rows.Most[i][k], unknown, weight)
		} else {
			u.take(k, v, math.NaN(), math.NaN(), unknown, weight)
		}
	}
	u.take(n, rows.Whole[i], rows.WholeLeast[i], rows.WholeMost[i], rows.WholeUnknown[i], weight)
}

func (u *uncertain) take(k int, v, least, most float64, unknown bool, weight float64) {
	if weight == 0 {
		return
	}
	u.add(k, v, weight)
	if !math.IsNaN(v) {
		least, most = v, v
	}
	switch {
	case u.least != nil && !math.IsNaN(least):
		u.least.add(k, least, weight)
		u.most.add(k, most, weight)
	case math.IsNaN(v) && unknown:
		u.unknown[k]++
	}
}

// finish returns the numbers, NaN where there is none or it lies between the bounds, which are nil without any.
func (u *uncertain) finish() (all, least, most []float64) {
	all = u.combined.finish()
	if u.least != nil {
		least, most = u.least.finish(), u.most.finish()
		for k := range all {
			if all[k] = least[k]; least[k] != most[k] {
				all[k] = math.NaN()
			}
		}
	}
	for k, n := range u.unknown {
		if n == 0 || u.Function == "count" {
			continue
		}
		all[k] = math.NaN()
		if least != nil {
			least[k], most[k] = math.NaN(), math.NaN()
		}
	}
	return all, least, most
}

// nowhere says of the first n windows where a series has readings and no number.
func (u *uncertain) nowhere(n int) []bool {
	out := make([]bool, n)
	for k := range out {
		out[k] = u.unknown[k] > 0 && u.Function != "count"
	}
	return out
}

// why says why there is no number where a series has readings and no number.
func (u *uncertain) why(stat window.Stat) (Reason, bool) {
	windows, worst := 0, 0
	for k, n := range u.unknown {
		worst = max(worst, n)
		if n > 0 && k < len(u.unknown)-1 {
			windows++
		}
	}
	if worst == 0 || u.Function == "count" {
		return Reason{}, false
	}
	return Reason{
		Stat:    stat.String(),
		Windows: windows,
		Text:    fmt.Sprintf("of up to %d of the series it is not known: %s", worst, stat.WhyUnknown()),
	}, true
}
