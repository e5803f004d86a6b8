package main

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/service"
	"nexocumula/internal/sim"
	"nexocumula/internal/store/engine"
)

const rowColumns = "whole, step0, step1, part0, part1, part2"

// conditionMany asks a gateway for how long series with a reading every 5 s were below a value, hour by hour of a day,
// beside reading the bytes of all their rows from the file.
func conditionMany(dir string, count int) (Row, error) {
	if err := tiersOf(dir, many(count), 1, series.Readings, series.TenSecond, series.Minute); err != nil {
		return Row{}, err
	}
	return allRows(dir, 0.44, "/api/v1/windows?select=bench/%23&width=1h&from=2026-03-02&to=2026-03-03&stats=below:5")
}

// narrowMany asks for the means of three days of 565 series of which only summaries of 10 s are kept, likewise.
func narrowMany(dir string) (Row, error) {
	if err := tiersOf(dir, many(565), 3, series.TenSecond); err != nil {
		return Row{}, err
	}
	return allRows(dir, 0.22, "/api/v1/windows?select=bench/%23&width=1h&from=2026-03-02&to=2026-03-05&stats=mean")
}

func allRows(dir string, most float64, call string) (Row, error) {
	all, err := besideReading(dir, 5, rowColumns, call)
	if err != nil {
		return Row{}, err
	}
	return all[0].row("ms", 1e3, "reading all rows of it from the file", fmt.Sprintf("<= %.3g", most),
		func(ratio float64) bool { return ratio <= most }), nil
}

// tiersOf writes summaries of some days, and seals them.
func tiersOf(dir string, paths []string, days int, tiers ...series.Tier) error {
	st, err := openStore(filepath.Join(dir, service.StoreFile))
	if err != nil {
		return err
	}
	kept, err := series.MakeTiers(slices.DeleteFunc(slices.Clone(tiers), func(t series.Tier) bool { return t == series.Readings }))
	if err != nil {
		return err
	}
	var defs []series.Definition
	for _, p := range paths {
		defs = append(defs, series.Definition{
			Path: series.Path(p), Kind: series.Gauge, Unit: "Cel", FreshFor: time.Minute, Tiers: kept,
		})
	}
	ids, err := st.Define(context.Background(), defs)
	if err != nil {
		return err
	}
	const models = 16 // hours that differ
	rows := map[series.Tier][]column.Block{}
	for _, tier := range tiers {
		for i := range models {
			rows[tier] = append(rows[tier], summariesOf(i, days, tier, &defs[0]))
		}
	}
	for i, id := range ids {
		var batch engine.Batch
		for _, tier := range tiers {
			batch.Entries = append(batch.Entries, engine.Entry{Series: id, Tier: tier, Rows: rows[tier][i%models]})
		}
		if err := st.Append(context.Background(), batch); err != nil {
			return err
		}
		if st.SealDue() {
			if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
				return err
			}
		}
	}
	if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
		return err
	}
	return st.Close()
}

func summariesOf(i, days int, tier series.Tier, def *series.Definition) column.Block {
	field := sim.Field{Seed: 1}
	const each = 5 // seconds from a reading to the next
	begin, end := wideDay.UnixNano(), wideDay.AddDate(0, 0, days).UnixNano()
	raw := column.New(1, 0)
	for at := begin; at < end; at += each * 1e9 {
		raw.Add(at, field.LakeTemp(time.Unix(0, at).Add(time.Duration(i)*15*time.Minute), i%4, 3))
	}
	if tier == series.Readings {
		return raw
	}
	out := rollup.NewBlock(series.Gauge, 0)
	for start := begin; start < end; start += int64(tier) {
		rollup.Fold(raw, start, start+int64(tier), def).AddTo(&out, start, series.Gauge)
	}
	return out
}
