package main

import (
	"math"
	"math/rand/v2"
	"path/filepath"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/sim"
)

const (
	fieldEvery  = 10 * time.Second
	fieldRows   = 8640                 // a day of each series
	fieldJitter = 3 * time.Millisecond // standard deviation
)

// fieldDay is a day of every series of the demo's field, polled every ten seconds with
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

// bytesPerReading is what a reading of the demo's field takes in a chunk, time and
// value together, beside an indexed row of SQLite.
func bytesPerReading(dir string) (Row, error) {
	blocks := fieldDay()
	rows, size := 0, 0
	for _, b := range blocks {
		data, err := chunk.Encode(b)
		if err != nil {
			return Row{}, err
		}
		rows += b.Len()
		size += len(data)
	}
	reference, err := sqliteBytes(filepath.Join(dir, "rows.db"), blocks, rows)
	if err != nil {
		return Row{}, err
	}
	row := Row{Unit: "bytes", Ours: float64(size) / float64(rows), Reference: "an indexed SQLite row each", ReferenceValue: reference, Goal: "<= 1.0 byte and <= 1/20"}
	row.Ratio = row.Ours / row.ReferenceValue
	row.Met = row.Ours <= 1 && row.Ratio <= 1.0/20
	return row, nil
}

type readingRow struct {
	Series uint32 `gorm:"index:place,priority:1"`
	Time   int64  `gorm:"index:place,priority:2"`
	Value  float64
}

func sqliteBytes(path string, blocks []column.Block, rows int) (float64, error) {
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: "file:" + path}, &gorm.Config{SkipDefaultTransaction: true, Logger: logger.Discard})
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
	pool, err := db.DB()
	if err != nil {
		return 0, err
	}
	return pages * pageSize / float64(rows), pool.Close()
}

// bytesOverEntropy is the size of the chunks beside the order-0 entropy of what they
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
	row := Row{Unit: "bytes", Ours: size, Reference: "order-0 entropy of the residuals", ReferenceValue: entropy, Goal: "<= 1.3"}
	row.Ratio = row.Ours / row.ReferenceValue
	row.Met = row.Ratio <= 1.3
	return row, nil
}

// entropyOf is the order-0 entropy of integers, in bits for all of them.
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

// decodeValues is how many numbers, times and values, come out of packed chunks per
// second, checksum and order checked, beside copying as many that are decoded already.
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
		values += 2 * b.Len()
	}
	const passes = 20
	times, copied := make([]int64, 4096), make([]float64, 4096)
	var ours, reference []float64
	for range rounds {
		begun := time.Now()
		for range passes {
			for _, data := range encoded {
				if _, err := chunk.Decode(data); err != nil {
					return Row{}, err
				}
			}
		}
		ours = append(ours, float64(passes*values)/time.Since(begun).Seconds())
		begun = time.Now()
		for range passes {
			for _, b := range blocks {
				copy(times, b.Times)
				copy(copied, b.Cols[0])
			}
		}
		reference = append(reference, float64(passes*values)/time.Since(begun).Seconds())
	}
	row := Row{Unit: "values/s", Ours: median(ours), Reference: "copying the decoded values", ReferenceValue: median(reference), Goal: ">= 1/8"}
	row.Ratio = row.Ours / row.ReferenceValue
	row.Met = row.Ratio >= 1.0/8
	return row, nil
}
