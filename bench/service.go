package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"path/filepath"
	"time"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/service"
	"nexocumula/internal/sim"
	"nexocumula/internal/store"
)

const centralFile = "data: DIR\nlisten: 127.0.0.1:0\ncentral:\n  accept: []\n"

// central runs a service on a prepared store in dir until the returned function is
// called.
func central(dir string) (address string, stop func() error, err error) {
	settings, err := config.Parse("central.yaml", []byte(centralFile))
	if err != nil {
		return "", nil, err
	}
	settings.Data = dir
	s, err := service.Open(settings, "bench", slog.New(slog.DiscardHandler))
	if err != nil {
		return "", nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	return s.Address, func() error { cancel(); return <-done }, nil
}

// fetch reads a whole answer and says how long it is.
func fetch(url string) (int64, error) {
	resp, err := http.Get(url)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	n, err := io.Copy(io.Discard, resp.Body)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s answered %d", url, resp.StatusCode)
	}
	return n, err
}

const wideSeries = 1000

// windowsWide reduces a day of 1-min summaries of many series to quarters of an hour,
// all stats, through HTTP, beside reading the same chunks from the file.
func windowsWide(dir string) (Row, error) {
	st, err := openStore(filepath.Join(dir, service.StoreFile))
	if err != nil {
		return Row{}, err
	}
	field := sim.Field{Seed: 1}
	begin := time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)
	var entries []store.Entry
	for i, path := range many(wideSeries) {
		id, err := defineOne(st, path, series.Gauge)
		if err != nil {
			return Row{}, err
		}
		known, _ := st.Get(id)
		out := rollup.NewBlock(series.Gauge, 1440)
		for m := range 1440 {
			raw, start := column.New(1, 6), begin.Add(time.Duration(m)*time.Minute)
			for k := range 6 {
				at := start.Add(time.Duration(k) * 10 * time.Second)
				raw.Add(at.UnixNano(), field.LakeTemp(at.Add(time.Duration(i)*time.Hour), i%4, 3))
			}
			rollup.Fold(raw, start.UnixNano(), start.UnixNano()+int64(time.Minute), &known.Definition).AddTo(&out, start.UnixNano(), series.Gauge)
		}
		entries = append(entries, store.Entry{Series: id, Tier: rollup.Minute, Rows: out})
	}
	for i := 0; i < len(entries); i += 100 {
		if err := st.Append(store.Batch{Entries: entries[i : i+100]}); err != nil {
			return Row{}, err
		}
	}
	if err := st.Seal(nil); err != nil {
		return Row{}, err
	}
	if err := st.Close(); err != nil {
		return Row{}, err
	}
	address, stop, err := central(dir)
	if err != nil {
		return Row{}, err
	}
	url := address + "/api/v1/windows?select=bench/%23&width=15m&from=2026-03-02T00:00:00Z&to=2026-03-03T00:00:00Z" +
		"&stats=count,mean,twa,min,max,range,sd,sum,first,last,difference,slope,coverage,min_at,max_at,first_at,last_at"
	db, err := openRows(filepath.Join(dir, service.StoreFile))
	if err != nil {
		return Row{}, err
	}
	p, err := inTurn(5, func() error { _, err := fetch(url); return err }, func() error {
		var all []struct{ Whole, Step0, Step1, Part0, Part1, Part2 []byte }
		return db.Raw("SELECT whole, step0, step1, part0, part1, part2 FROM chunks").Scan(&all).Error
	})
	if err != nil {
		return Row{}, err
	}
	row := p.row("ms", 1e3, "reading the same chunks from the file", "known", known)
	if err := closeRows(db); err != nil {
		return Row{}, err
	}
	return row, stop()
}

// nowMany is the latest values of 50,000 series over HTTP, beside encoding the same JSON
// from memory.
func nowMany(dir string) (Row, error) {
	const count = 50_000
	st, err := openStore(filepath.Join(dir, service.StoreFile))
	if err != nil {
		return Row{}, err
	}
	if err := manyWithOne(st, count); err != nil {
		return Row{}, err
	}
	if err := st.Close(); err != nil {
		return Row{}, err
	}
	address, stop, err := central(dir)
	if err != nil {
		return Row{}, err
	}
	same, err := client.New(address).Now(context.Background(), "")
	if err != nil {
		return Row{}, err
	}
	if len(same.Values) != count {
		return Row{}, fmt.Errorf("%d of %d values came", len(same.Values), count)
	}
	p, err := inTurn(9, func() error { _, err := fetch(address + "/api/v1/now"); return err }, func() error { return json.NewEncoder(io.Discard).Encode(same) })
	if err != nil {
		return Row{}, err
	}
	row := p.row("ms", 1e3, "encoding the same JSON from memory", "<= 3", func(ratio float64) bool { return ratio <= 3 })
	return row, stop()
}

// manyWithOne defines series with a reading each.
func manyWithOne(st *store.Store, count int) error {
	var defs []series.Definition
	for _, path := range many(count) {
		defs = append(defs, series.Definition{Path: series.Path(path), Kind: series.Gauge, Unit: "Cel", FreshFor: time.Minute})
	}
	ids, err := st.Define(defs)
	if err != nil {
		return err
	}
	var batch store.Batch
	now := time.Now().UnixNano()
	for i, id := range ids {
		b := column.New(1, 1)
		b.Add(now+int64(i), float64(i)/100)
		batch.Entries = append(batch.Entries, store.Entry{Series: id, Rows: b})
	}
	return st.Append(batch)
}
