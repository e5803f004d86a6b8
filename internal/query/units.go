package query

import (
	"nexocumula/internal/core/unit"
	"nexocumula/internal/core/window"
)

// convert turns the rows into another unit.
func convert(rows *SeriesRows, stats []window.Stat, to string) error {
	c, err := unit.Convert(rows.Unit, to)
	if err != nil {
		return refuse("unit", "%s: %v", rows.Name, err)
	}
	for i, stat := range stats {
		if !stat.HasUnit() {
			continue
		}
		for k, v := range rows.Rows.Stats[i] {
			rows.Rows.Stats[i][k] = stat.Convert(v, c.Scale, c.Offset, rows.Counts[k])
		}
		rows.Whole[i] = stat.Convert(rows.Whole[i], c.Scale, c.Offset, rows.WholeCount)
	}
	rows.Unit = to
	return nil
}
