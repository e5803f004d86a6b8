package main

import (
	"fmt"
	"path/filepath"
	"time"
)

const rawReading = 16 // bytes of a time and a value

// wear1000 returns what 1,000 series at 1 Hz cost a gateway, evenly spaced over 20 devices.
func wear1000(dir string) ([]Row, error) {
	before, err := bareBroker(1000, 20)
	if err != nil {
		return nil, err
	}
	w, err := wear(dir, 1000, time.Second, 20, false)
	if err != nil {
		return nil, err
	}
	after, err := bareBroker(1000, 20)
	if err != nil {
		return nil, err
	}
	bytes := perReading("bytes_written_per_reading", w, 100)
	cpu := Row{
		Name:           "cpu_1000_series",
		Unit:           "µs a message",
		Ours:           1e3 * w.cores(w.gateway),
		Reference:      "the broker library alone, before and after",
		ReferenceValue: 1e3 * (before + after) / 2,
		Goal:           "<= 1.5",
	}
	cpu.Ratio = cpu.Ours / cpu.ReferenceValue
	cpu.Met = cpu.Ratio <= 1.5
	memory := Row{
		Name:           "rss_1000_series",
		Unit:           "MB",
		Ours:           w.gateway[1].peak / (1 << 20),
		Reference:      "a small board's 512 MB",
		ReferenceValue: 512,
		Goal:           "<= 64 MB, the most there was",
	}
	memory.Ratio = memory.Ours / memory.ReferenceValue
	memory.Met = memory.Ours <= 64
	return []Row{bytes, cpu, memory}, nil
}

func perReading(name string, w worn, most float64) Row {
	row := Row{
		Name:           name,
		Unit:           "bytes",
		Ours:           w.perReading(),
		Reference:      "a time and a value",
		ReferenceValue: rawReading,
		Goal:           fmt.Sprintf("<= %.0f bytes", most),
	}
	row.Ratio = row.Ours / rawReading
	row.Met = row.Ours <= most
	return row
}

// wear10 returns what ten series at 0.1 Hz write, once as one device that reports all of them
// at a time, and once evenly spaced, a message a second. In the latter each message is a
// commit of its own, as its sender waits, and the kernel writes pages of 4 KiB.
func wear10(dir string) ([]Row, error) {
	together, err := wear(filepath.Join(dir, "together"), 10, 10*time.Second, 1, true)
	if err != nil {
		return nil, err
	}
	spaced, err := wear(filepath.Join(dir, "spaced"), 10, 10*time.Second, 10, false)
	if err != nil {
		return nil, err
	}
	return []Row{
		perReading("bytes_written_10_series", together, 2000), perReading("bytes_written_10_spaced", spaced, 2000),
	}, nil
}
