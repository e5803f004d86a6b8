package main

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/query"
	"nexocumula/internal/sim"
	"nexocumula/internal/store/engine"
)

const minutesOfYear = 365 * 24 * 60

var yearBegin = time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)

// yearOfMinutes returns a year of 1-min summaries of a lake temperature, six readings each.
func yearOfMinutes(def *series.Definition) column.Block {
	field := sim.Field{Seed: 1}
	out := rollup.NewBlock(def.Kind, minutesOfYear)
	for m := range minutesOfYear {
		start := yearBegin.Add(time.Duration(m) * time.Minute)
		raw := column.New(1, 6)
		for i := range 6 {
			at := start.Add(time.Duration(i) * 10 * time.Second)
			raw.Add(at.UnixNano(), field.LakeTemp(at, 1, 3))
		}
		rollup.Fold(raw, start.UnixNano(), start.UnixNano()+int64(time.Minute), def).AddTo(&out, start.UnixNano(),
			def.Kind)
	}
	return out
}

type summaryRow struct {
	Series  uint32 `gorm:"index:place,priority:1"`
	Start   int64  `gorm:"index:place,priority:2"`
	Count   float64
	Mean    float64
	Low     float64
	High    float64
	M2      float64
	First   float64
	Last    float64
	Covered float64
}

// collect is a sink that keeps the rows and checks that there are some.
type collect struct{ windows, rows int }

func (c *collect) Head(h query.Head) error { c.windows = len(h.Windows); return nil }
func (c *collect) Series(s query.SeriesRows) error {
	for _, v := range s.Rows.Stats[0] {
		if v == v {
			c.rows++
		}
	}
	return nil
}

func windowsYearHourly(dir string) (Row, error) {
	return windowsYear(dir, window.Grid{Width: window.Step{Fixed: time.Hour}}, 8760, "start / 3600000000000", 150)
}

// foldedYear returns the mean day of a year.
func foldedYear(dir string) (Row, error) {
	return windowsYear(dir, window.Grid{Width: window.Step{Fixed: time.Hour}, Fold: window.FoldDay}, 24,
		"start / 3600000000000 % 24", 100)
}

func windowsYearMonthly(dir string) (Row, error) {
	return windowsYear(dir, window.Grid{Width: window.Step{Months: 1}}, 12,
		"strftime('%Y-%m', start / 1000000000, 'unixepoch')", 1000)
}

// windowsYear reduces a year of 1-min summaries of one series to mean, min and max, beside
// SQL's GROUP BY over an indexed table of the same summaries.
func windowsYear(dir string, grid window.Grid, windows int, group string, goal float64) (Row, error) {
	st, err := openStore(filepath.Join(dir, "ours.db"))
	if err != nil {
		return Row{}, err
	}
	defer st.Close()
	id, err := defineOne(st, "long-mere/buoy-1/water_temp_3m", series.Gauge)
	if err != nil {
		return Row{}, err
	}
	known, _ := st.Get(id)
	all := yearOfMinutes(&known.Definition)
	if err := st.Append(context.Background(),
		engine.Batch{Entries: []engine.Entry{{Series: id, Tier: series.Minute, Rows: all}}}); err != nil {
		return Row{}, err
	}
	if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
		return Row{}, err
	}
	reference, closeTable, err := groupBy(filepath.Join(dir, "rows.db"), all, group, windows)
	if err != nil {
		return Row{}, err
	}
	p, err := inTurn(5, func() error {
		selector, err := series.ParseSelector("long-mere/buoy-1/water_temp_3m")
		if err != nil {
			return err
		}
		stats, err := window.ParseStats("mean,min,max")
		if err != nil {
			return err
		}
		q := query.Windows{
			Select: []series.Selector{selector}, Range: window.Range{
				From:  yearBegin,
				To:    yearBegin.AddDate(1, 0, 0),
				Exact: true,
			},
			Grid: grid, Stats: stats,
		}
		var got collect
		err = q.Run(context.Background(), query.Source{
			Store: st, Limits: config.Queries{MaxRows: 500_000, MaxSeries: 10, MaxTime: time.Minute},
		}, &got)
		if err == nil && got.rows != windows {
			err = fmt.Errorf("%d of %d windows came", got.rows, windows)
		}
		return err
	}, reference)
	if err != nil {
		return Row{}, err
	}
	return p.times("SQL GROUP BY over an indexed table of the same summaries",
		fmt.Sprintf(">= %.0f times as fast", goal), goal), closeTable()
}

// groupBy fills the table and is the query.
func groupBy(path string, all column.Block, group string, windows int) (query func() error, closeTable func() error, err error) {
	db, err := openRows(path)
	if err != nil {
		return nil, nil, err
	}
	if err := db.AutoMigrate(&summaryRow{}); err != nil {
		return nil, nil, err
	}
	c := all.Cols
	for i := 0; i < all.Len(); i += 30_000 {
		var rows []summaryRow
		for k := i; k < min(all.Len(), i+30_000); k++ {
			rows = append(rows, summaryRow{
				1, all.Times[k], c[rollup.ColCount][k], c[rollup.ColMean][k], c[rollup.ColMin][k], c[rollup.ColMax][k],
				c[rollup.ColM2][k], c[rollup.ColFirst][k], c[rollup.ColLast][k], c[rollup.ColCovered][k],
			})
		}
		if err := db.CreateInBatches(rows, 1000).Error; err != nil {
			return nil, nil, err
		}
	}
	query = func() error {
		var out []struct{ Mean, Low, High float64 }
		err := db.Raw("SELECT sum(count * mean) / sum(count) AS mean, min(low) AS low, max(high) AS high FROM summary_rows WHERE series = 1 AND start >= ? AND start < ? GROUP BY "+group,
			yearBegin.UnixNano(), yearBegin.AddDate(1, 0, 0).UnixNano()).Scan(&out).Error
		if err == nil && len(out) != windows {
			err = fmt.Errorf("SQL gave %d of %d windows", len(out), windows)
		}
		return err
	}
	return query, func() error { return closeRows(db) }, nil
}
