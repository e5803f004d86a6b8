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
	"nexocumula/internal/kinds"
	"nexocumula/internal/service"
	"nexocumula/internal/sim"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

const centralFile = "data: DIR\nlisten: 127.0.0.1:0\ncentral:\n  accept: []\n"

// central runs a service on a prepared store in dir until the returned function is
// called.
func central(dir string) (address string, stop func() error, err error) {
	settings, err := config.Parse("central.yaml", []byte(centralFile), kinds.All)
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
	body, err := fetchBody(url)
	if err != nil {
		return 0, err
	}
	defer body.Close()
	return io.Copy(io.Discard, body)
}

func fetchBody(url string) (io.ReadCloser, error) {
	resp, err := http.Get(url)
	if err == nil && resp.StatusCode != http.StatusOK {
		resp.Body.Close()
		err = fmt.Errorf("%s answered %d", url, resp.StatusCode)
	}
	if err != nil {
		return nil, err
	}
	return resp.Body, nil
}

const wideSeries = 1000

var wideDay = time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)

// dayOfMinutes writes a day of 1-min summaries of series, and seals it.
func dayOfMinutes(dir string, paths []string) error {
	st, err := openStore(filepath.Join(dir, service.StoreFile))
	if err != nil {
		return err
	}
	field := sim.Field{Seed: 1}
	var entries []engine.Entry
	var model []column.Block // of hours that differ; making ten thousand would take an hour
	for i, path := range paths {
		id, err := defineOne(st, path, series.Gauge)
		if err != nil {
			return err
		}
		if known, _ := st.Get(id); len(model) < 96 {
			model = append(model, dayOf(field, i, &known.Definition))
		}
		entries = append(entries, engine.Entry{Series: id, Tier: series.Minute, Rows: model[i%len(model)]})
	}
	for i := 0; i < len(entries); i += 100 {
		if err := st.Append(context.Background(), engine.Batch{Entries: entries[i : i+100]}); err != nil {
			return err
		}
	}
	if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
		return err
	}
	return st.Close()
}

func dayOf(field sim.Field, i int, def *series.Definition) column.Block {
	out := rollup.NewBlock(series.Gauge, 1440)
	for m := range 1440 {
		raw, start := column.New(1, 6), wideDay.Add(time.Duration(m)*time.Minute)
		for k := range 6 {
			at := start.Add(time.Duration(k) * 10 * time.Second)
			raw.Add(at.UnixNano(), field.LakeTemp(at.Add(time.Duration(i)*15*time.Minute), i%4, 3))
		}
		rollup.Fold(raw, start.UnixNano(), start.UnixNano()+int64(time.Minute), def).AddTo(&out, start.UnixNano(),
			series.Gauge)
	}
	return out
}

// besideReading times calls of a service on a prepared store, each beside reading the
// bytes of the chunks that it needs from the file.
func besideReading(dir string, rounds int, columns string, calls ...string) ([]pairs, error) {
	address, stop, err := central(dir)
	if err != nil {
		return nil, err
	}
	db, err := openRows(filepath.Join(dir, service.StoreFile))
	if err != nil {
		return nil, err
	}
	var out []pairs
	for _, call := range calls {
		p, err := inTurn(rounds, func() error { _, err := fetch(address + call); return err }, func() error {
			var all []struct{ Whole, Step0, Step1, Part0, Part1, Part2 []byte }
			return db.Raw("SELECT " + columns + " FROM chunks").Scan(&all).Error
		})
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	if err := closeRows(db); err != nil {
		return nil, err
	}
	return out, stop()
}

// windowsWide reduces a day of 1-min summaries of many series to quarters of an hour,
// all stats, through HTTP in two forms, beside reading the same chunks from the file.
func windowsWide(dir string) ([]Row, error) {
	if err := dayOfMinutes(dir, many(wideSeries)); err != nil {
		return nil, err
	}
	call := "/api/v1/windows?select=bench/%23&width=15m&from=2026-03-02&to=2026-03-03" +
		"&stats=count,mean,twa,min,max,range,sd,sum,first,last,difference,slope,coverage,min_at,max_at,first_at,last_at&format="
	all, err := besideReading(dir, 7, "whole, step0, step1, part0, part1, part2", call+"json", call+"arrow")
	if err != nil {
		return nil, err
	}
	atMost := func(p pairs, most float64) Row {
		return p.row("ms", 1e3, "reading the same chunks from the file", fmt.Sprintf("<= %.0f", most),
			func(ratio float64) bool { return ratio <= most })
	}
	json, arrow := atMost(all[0], 8), atMost(all[1], 4)
	json.Name, arrow.Name = "windows_wide_json", "windows_wide_arrow"
	return []Row{json, arrow}, nil
}

// acrossMany puts series of a day together by site, beside reading the bytes that tell of them.
func acrossMany(dir string, count int) (Row, error) {
	paths := make([]string, count)
	for i := range paths {
		paths[i] = fmt.Sprintf("bench/site-%02d/station-%04d/value", i/100, i%100)
	}
	if err := dayOfMinutes(dir, paths); err != nil {
		return Row{}, err
	}
	all, err := besideReading(dir, 5, "whole, step0",
		"/api/v1/windows?select=bench/%23&width=1h&from=2026-03-02&to=2026-03-03&stats=mean&across=mean&by=level:2")
	if err != nil {
		return Row{}, err
	}
	return all[0].row("ms", 1e3, "reading the same bytes from the file", "<= 4",
		func(ratio float64) bool { return ratio <= 4 }), nil
}

// nowMany returns the latest values of 50,000 series over HTTP, beside encoding the same JSON
// from memory.
func nowMany(dir string) (Row, error) {
	const count = 50_000
	address, stop, err := centralWith(dir, count)
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
	p, err := inTurn(9, func() error { _, err := fetch(address + "/api/v1/now"); return err },
		func() error { return json.NewEncoder(io.Discard).Encode(same) })
	if err != nil {
		return Row{}, err
	}
	row := p.row("ms", 1e3, "encoding the same JSON from memory", "<= 3",
		func(ratio float64) bool { return ratio <= 3 })
	return row, stop()
}

// manyWithOne defines series with a reading each.
func manyWithOne(st *store.Store, count int) error {
	var defs []series.Definition
	for _, path := range many(count) {
		defs = append(defs, series.Definition{
			Path:     series.Path(path),
			Kind:     series.Gauge,
			Unit:     "Cel",
			FreshFor: time.Minute,
		})
	}
	ids, err := st.Define(context.Background(), defs)
	if err != nil {
		return err
	}
	var batch engine.Batch
	now := time.Now().UnixNano()
	for i, id := range ids {
		b := column.New(1, 1)
		b.Add(now+int64(i), float64(i)/100)
		batch.Entries = append(batch.Entries, engine.Entry{Series: id, Rows: b})
	}
	return st.Append(context.Background(), batch)
}
