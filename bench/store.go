package main

import (
	"context"
	"fmt"
	"path/filepath"
	"runtime"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/store/engine"
)

// appendReadings is readings per second into the store, each batch of a thousand series
// durable before the next, beside committing blobs of the same bytes to plain SQLite.
func appendReadings(dir string) (Row, error) {
	const batches, each = 100, 10
	st, err := openStore(filepath.Join(dir, "ours.db"))
	if err != nil {
		return Row{}, err
	}
	defer st.Close()
	var ids []uint32
	for _, path := range many(1000) {
		id, err := defineOne(st, path, series.Gauge)
		if err != nil {
			return Row{}, err
		}
		ids = append(ids, id)
	}
	readings, at := 0, time.Now().UnixNano()
	begun := time.Now()
	for range batches {
		var batch engine.Batch
		for _, id := range ids {
			b := column.New(1, each)
			for i := range each {
				b.Add(at+int64(i)*1e9, float64(i%7)/10)
			}
			batch.Entries = append(batch.Entries, engine.Entry{Series: id, Rows: b})
		}
		at += each * 1e9
		if err := st.Append(context.Background(), batch); err != nil {
			return Row{}, err
		}
		readings += each * len(ids)
	}
	ours := float64(readings) / time.Since(begun).Seconds()
	took, err := bareCommits(dir)
	if err != nil {
		return Row{}, err
	}
	row := Row{
		Unit:           "readings/s",
		Ours:           ours,
		Reference:      "bare SQLite commits of the same bytes",
		ReferenceValue: float64(readings) / took,
		Goal:           "known",
		Met:            true,
	}
	row.Ratio = row.Ours / row.ReferenceValue
	return row, nil
}

type blobRow struct {
	ID      uint64 `gorm:"primaryKey"`
	Payload []byte
}

// bareCommits writes the journal's rows, as they are in our file, one commit each.
func bareCommits(dir string) (float64, error) {
	from, err := openRows(filepath.Join(dir, "ours.db"))
	if err != nil {
		return 0, err
	}
	var payloads [][]byte
	if err := from.Raw("SELECT payload FROM journal ORDER BY id").Scan(&payloads).Error; err != nil {
		return 0, err
	}
	to, err := openRows(filepath.Join(dir, "bare.db"))
	if err != nil {
		return 0, err
	}
	if err := to.AutoMigrate(&blobRow{}); err != nil {
		return 0, err
	}
	begun := time.Now()
	for _, p := range payloads {
		if err := to.Create(&blobRow{Payload: p}).Error; err != nil {
			return 0, err
		}
	}
	took := time.Since(begun).Seconds()
	if err := closeRows(from); err != nil {
		return 0, err
	}
	return took, closeRows(to)
}

const (
	historySeries = 1000
	historyRows   = 100_000 // of each: 100 million in all
)

// startWithHistory returns the time from opening a store with 100 million readings to its
// first answer, beside opening the same file with plain SQLite and reading one row.
func startWithHistory(dir string) (Row, error) {
	path := filepath.Join(dir, "ours.db")
	if err := writeHistory(path); err != nil {
		return Row{}, err
	}
	end := historyBegin.Add(historyRows * 10 * time.Second)
	p, err := inTurn(7, func() error {
		st, err := openStore(path)
		if err != nil {
			return err
		}
		defer st.Close()
		rows, err := st.Read(context.Background(), 500, series.Readings, end.Add(-time.Hour).UnixNano(), end.UnixNano())
		if err == nil && rows.Len() != 360 {
			err = fmt.Errorf("%d readings of an hour came", rows.Len())
		}
		return err
	}, func() error {
		db, err := openRows(path)
		if err != nil {
			return err
		}
		var size int
		if err := db.Raw("SELECT length(part0) FROM chunks WHERE series = 500 AND tier = 0 AND first_at < ? ORDER BY first_at DESC LIMIT 1",
			end.UnixNano()).Scan(&size).Error; err != nil {
			return err
		}
		return closeRows(db)
	})
	if err != nil {
		return Row{}, err
	}
	return p.row("ms", 1e3, "opening the same SQLite file and reading one row", "known", known), nil
}

var historyBegin = time.Date(2026, 1, 2, 0, 0, 0, 0, time.UTC)

func writeHistory(path string) error {
	st, err := openStore(path)
	if err != nil {
		return err
	}
	defer st.Close()
	for i, name := range many(historySeries) {
		id, err := defineOne(st, name, series.Gauge)
		if err != nil {
			return err
		}
		b := column.New(1, historyRows)
		value := 1000 + i
		for k := range historyRows {
			value += (k*7+i)%5 - 2
			b.Add(historyBegin.Add(time.Duration(k)*10*time.Second).UnixNano()+int64((k*13+i)%7)*1e6,
				float64(value)/100)
		}
		if err := st.Append(context.Background(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: b}}}); err != nil {
			return err
		}
		if st.SealDue() {
			if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
				return err
			}
		}
	}
	return st.Seal(context.Background(), engine.Sealing{})
}

// memoryPerSeries returns what a gateway's pipeline and store keep of a live series once its
// readings are summarised and sealed.
func memoryPerSeries(dir string, count int) (Row, error) {
	const most = 2048
	st, err := openStore(filepath.Join(dir, "ours.db"))
	if err != nil {
		return Row{}, err
	}
	defer st.Close()
	before := heap()
	paths := many(count)
	var defs []series.Definition
	for _, p := range paths { // in one go; the pipeline then finds them defined
		defs = append(defs, series.Definition{
			Path:     series.Path(p),
			Kind:     series.Gauge,
			FreshFor: series.DefaultFreshFor,
		})
	}
	if _, err := st.Define(context.Background(), defs); err != nil {
		return Row{}, err
	}
	pipe, stop, err := collecting(st)
	if err != nil {
		return Row{}, err
	}
	begin := time.Now().Add(-time.Hour)
	for k := range 5 {
		if err := deliver(pipe, paths, begin.Add(time.Duration(k)*10*time.Second)); err != nil {
			return Row{}, err
		}
	}
	if err := summarised(pipe); err != nil {
		return Row{}, err
	}
	if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
		return Row{}, err
	}
	each := (heap() - before) / float64(count)
	if err := stop(); err != nil {
		return Row{}, err
	}
	row := Row{
		Unit:           "bytes",
		Ours:           each,
		Reference:      "what is allowed",
		ReferenceValue: most,
		Ratio:          each / most,
		Goal:           "<= 2048",
	}
	row.Met = each <= most
	return row, nil
}

// selectOfMillion finds the hundred series of one quantity at a site among a million, by
// "site-500/+/q-3", beside finding all of them.
func selectOfMillion(dir string) (Row, error) {
	st, err := openStore(filepath.Join(dir, "ours.db"))
	if err != nil {
		return Row{}, err
	}
	defer st.Close()
	for site := range 1000 {
		var defs []series.Definition
		for i := range 1000 {
			path := fmt.Sprintf("site-%d/station-%d/q-%d", site, i/10, i%10)
			defs = append(defs, series.Definition{Path: series.Path(path), Kind: series.Gauge, FreshFor: time.Minute})
		}
		if _, err := st.Define(context.Background(), defs); err != nil {
			return Row{}, err
		}
	}
	find := func(text string, want int) func() error {
		return func() error {
			selector, err := series.ParseSelector(text)
			if found := len(st.List(selector)); err == nil && found != want {
				err = fmt.Errorf("%s found %d of %d series", text, found, want)
			}
			return err
		}
	}
	p, err := inTurn(5, find("site-500/+/q-3", 100), find("#", 1_000_000))
	if err != nil {
		return Row{}, err
	}
	return p.times("finding all of the million", ">= 1000 times as fast", 1000), nil
}

// deliver gives every series a reading and waits until all are on disk.
func deliver(pipe *pipeline.Pipeline, paths []string, at time.Time) error {
	const group = 1000
	results := make(chan error, len(paths)/group)
	for i := 0; i < len(paths); i += group {
		d := &pipeline.Delivery{Done: func(err error) { results <- err }}
		for _, p := range paths[i : i+group] {
			d.Readings = append(d.Readings, reading.Reading{
				Path:  series.Path(p),
				Time:  at.UnixNano(),
				Value: 1,
				From:  &reading.Origin{},
			})
		}
		pipe.Submit(d)
	}
	for range cap(results) {
		if err := <-results; err != nil {
			return err
		}
	}
	return nil
}

func heap() float64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return float64(m.HeapAlloc)
}
