package query

import "nexocumula/internal/core/window"

// why lists the stats that have no number in some windows although there are readings, unless bounds stand there.
func why(rows SeriesRows, stats []window.Stat) (out []Reason) {
	for i, s := range stats {
		if rows.Unknown[i] == nil || rows.Least[i] != nil {
			continue
		}
		n := 0
		for _, yes := range rows.Unknown[i] {
			if yes {
				n++
			}
		}
		if n > 0 || rows.WholeUnknown[i] {
			out = append(out, Reason{Stat: s.String(), Windows: n, Text: s.WhyUnknown()})
		}
	}
	return out
}
