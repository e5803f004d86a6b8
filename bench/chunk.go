package main

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/sim"
	"nexocumula/internal/store/engine"
)

const (
	fieldEvery  = 10 * time.Second
	fieldRows   = 8640                 // a day of each series
	fieldJitter = 3 * time.Millisecond // standard deviation
)

// fieldDay returns a day of every series of the demo's field, polled every ten seconds with
// a jitter of some milliseconds, in blocks as the store makes them.
func fieldDay() []column.Block {
	field := sim.Field{Seed: 1}
	begin := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	random := rand.New(rand.NewPCG(1, 2))
	var blocks []column.Block
	for _, site := range sim.Sites {
		for _, q := range field.Quantities(site) {
			b := column.New(1, 4096)
			for i := range fieldRows {
				late := time.Duration(random.NormFloat64() * float64(fieldJitter)).Round(time.Millisecond)
				at := begin.Add(time.Duration(i)*fieldEvery + late)
				if v, ok := q.At(at); ok {
					b.Add(at.UnixNano(), v)
				}
				if b.Len() == 4096 {
					blocks = append(blocks, b)
					b = column.New(1, 4096)
				}
			}
			if b.Len() > 0 {
				blocks = append(blocks, b)
			}
		}
	}
	return blocks
}

// bytesPerReading returns what a reading of the demo's field takes in the store's file, time
// and value together with synopses and all else there is, beside an indexed row of
// SQLite.
func bytesPerReading(dir string) (Row, error) {
	blocks := fieldDay()
	st, err := openStore(filepath.Join(dir, "ours.db"))
	if err != nil {
		return Row{}, err
	}
	defer st.Close()
	rows := 0
	for i, b := range blocks {
		id, err := defineOne(st, fmt.Sprintf("bench/station-%d/value", i), series.Gauge)
		if err != nil {
			return Row{}, err
		}
		if err := st.Append(context.Background(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: b}}}); err != nil {
			return Row{}, err
		}
		rows += b.Len()
	}
	if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
		return Row{}, err
	}
	size, err := chunkBytes(filepath.Join(dir, "ours.db"))
	if err != nil {
		return Row{}, err
	}
	reference, err := sqliteBytes(filepath.Join(dir, "rows.db"), blocks, rows)
	if err != nil {
		return Row{}, err
	}
	row := Row{
		Unit:           "bytes",
		Ours:           size / float64(rows),
		Reference:      "an indexed SQLite row each",
		ReferenceValue: reference,
		Goal:           "<= 1.0 byte and <= 1/20",
	}
	row.Ratio = row.Ours / row.ReferenceValue
	row.Met = row.Ours <= 1 && row.Ratio <= 1.0/20
	return row, nil
}

// chunkBytes returns the size of all chunk rows with their synopses.
func chunkBytes(path string) (size float64, err error) {
	db, err := openRows(path)
	if err != nil {
		return 0, err
	}
	err = db.Raw("SELECT sum(length(whole) + coalesce(length(step0), 0) + coalesce(length(step1), 0) + length(part0) + coalesce(length(part1), 0) + coalesce(length(part2), 0) + coalesce(length(part3), 0)) FROM chunks").Scan(&size).Error
	if err != nil {
		return 0, err
	}
	return size, closeRows(db)
}

type readingRow struct {
	Series uint32 `gorm:"index:place,priority:1"`
	Time   int64  `gorm:"index:place,priority:2"`
	Value  float64
}

func sqliteBytes(path string, blocks []column.Block, rows int) (float64, error) {
	db, err := openRows(path)
	if err != nil {
		return 0, err
	}
	if err := db.AutoMigrate(&readingRow{}); err != nil {
		return 0, err
	}
	err = db.Transaction(func(tx *gorm.DB) error {
		for s, b := range blocks {
			batch := make([]readingRow, b.Len())
			for i := range batch {
				batch[i] = readingRow{uint32(s), b.Times[i], b.Cols[0][i]}
			}
			if err := tx.CreateInBatches(batch, 500).Error; err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	var pages, pageSize float64
	if err := db.Raw("PRAGMA page_count").Scan(&pages).Error; err != nil {
		return 0, err
	}
	if err := db.Raw("PRAGMA page_size").Scan(&pageSize).Error; err != nil {
		return 0, err
	}
	return pages * pageSize / float64(rows), closeRows(db)
}

// bytesOverEntropy returns the size of the chunks beside the order-0 entropy of what they
// model: per block, the differences of the values as decimals, or the decimals
// themselves where that is less, and the distances of the times from their grid.
func bytesOverEntropy(string) (Row, error) {
	var size, entropy float64
	for _, b := range fieldDay() {
		data, err := chunk.Encode(b)
		if err != nil {
			return Row{}, err
		}
		size += float64(len(data))
		entropy += (timeEntropy(b.Times) + valueEntropy(b.Cols[0])) / 8
	}
	row := Row{
		Unit:           "bytes",
		Ours:           size,
		Reference:      "order-0 entropy of the residuals",
		ReferenceValue: entropy,
		Goal:           "<= 1.3",
	}
	row.Ratio = row.Ours / row.ReferenceValue
	row.Met = row.Ratio <= 1.3
	return row, nil
}

// entropyOf returns the order-0 entropy of integers, in bits for all of them.
func entropyOf(v []int64) float64 {
	counts := map[int64]float64{}
	for _, x := range v {
		counts[x]++
	}
	sum := 0.0
	for _, n := range counts {
		sum -= n * math.Log2(n/float64(len(v)))
	}
	return sum
}

func timeEntropy(times []int64) float64 {
	distances := make([]int64, len(times))
	for i, t := range times {
		ms := t / int64(time.Millisecond)
		every := fieldEvery.Milliseconds()
		distances[i] = ms - (ms+every/2)/every*every
	}
	return entropyOf(distances)
}

func valueEntropy(values []float64) float64 {
	integers, differences := make([]int64, len(values)), make([]int64, len(values))
	for i, v := range values {
		integers[i] = int64(math.Round(v * 1000)) // no sensor of the field resolves more
		if i > 0 {
			differences[i] = integers[i] - integers[i-1]
		}
	}
	return min(entropyOf(integers), entropyOf(differences[1:]))
}

// decodeValues returns how many numbers of value columns come out of packed chunks per second,
// checksum and bounds checked, beside copying as many that are decoded already.
func decodeValues(string) (Row, error) {
	blocks := fieldDay()
	var encoded [][]byte
	values := 0
	for _, b := range blocks {
		data, err := chunk.Encode(b)
		if err != nil {
			return Row{}, err
		}
		encoded = append(encoded, data)
		values += b.Len()
	}
	const passes = 200
	copied := make([]float64, 4096)
	var p pairs
	for range 3 * rounds {
		begun := time.Now()
		for range passes {
			for _, data := range encoded {
				p, err := chunk.Open(data)
				if err == nil {
					_, err = p.Column(0, copied)
				}
				if err != nil {
					return Row{}, err
				}
			}
		}
		ours := float64(passes*values) / time.Since(begun).Seconds()
		begun = time.Now()
		for range passes {
			for _, b := range blocks {
				copy(copied, b.Cols[0])
			}
		}
		p.add(ours, float64(passes*values)/time.Since(begun).Seconds())
	}
	return p.row("values/s", 1, "copying the decoded values", ">= 1/6",
		func(ratio float64) bool { return ratio >= 1.0/6 }), nil
}
