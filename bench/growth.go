package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

// sizes are how many series a store has while its costs are compared.
var sizes = []int{1_000, 10_000, 100_000}

// spent is what this process has used.
type spent struct {
	processor time.Duration
	written   float64 // bytes that went to disk
}

func spentSoFar() (s spent, err error) {
	var usage syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &usage); err != nil {
		return s, err
	}
	s.processor = time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
	text, err := os.ReadFile("/proc/self/io")
	if err != nil {
		return s, err
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "write_bytes:"); ok {
			s.written, err = strconv.ParseFloat(strings.TrimSpace(rest), 64)
		}
	}
	return s, err
}

// sealGrowth returns what a row costs the store of a central that gets a summary of each series every
// minute, from the journal into chunks, with 10,000 and 100,000 series beside 1,000.
func sealGrowth(dir string) ([]Row, error) {
	var took, written [3]float64
	for i, n := range sizes {
		var err error
		if took[i], written[i], err = sealing(filepath.Join(dir, fmt.Sprintf("%d.db", n)), n); err != nil {
			return nil, err
		}
		fmt.Fprintf(os.Stderr, "%d series: %.1f us and %.0f bytes a row\n", n, took[i], written[i])
	}
	row := func(name, unit string, v [3]float64) Row {
		worse := max(v[1], v[2])
		return Row{
			Name: name, Unit: unit, Ours: worse, Reference: fmt.Sprintf("1,000 series; worse of 10,000 (%.3g) and 100,000 (%.3g)",
				v[1], v[2]),
			ReferenceValue: v[0], Ratio: worse / v[0], Goal: "<= 1.5", Met: worse/v[0] <= 1.5,
		}
	}
	return []Row{row("seal_growth", "µs/row", took), row("seal_growth_bytes", "bytes/row", written)}, nil
}

// sealing stores 2,000,000 rows, a round of all series at a time.
func sealing(path string, count int) (microseconds, written float64, err error) {
	const rows = 2_000_000
	ctx := context.Background()
	st, err := openStore(path)
	if err != nil {
		return 0, 0, err
	}
	defer st.Close()
	ids, err := defineAll(st, count)
	if err != nil {
		return 0, 0, err
	}
	runtime.GC()
	before, err := spentSoFar()
	if err != nil {
		return 0, 0, err
	}
	sealed := make(chan error, 1)
	sealed <- nil
	for round := range rows / count {
		for from := 0; from < count; from += 1000 {
			if err := st.Append(ctx, minuteOf(ids[from:from+1000], round)); err != nil {
				return 0, 0, err
			}
			if !st.SealDue() {
				continue
			}
			select {
			case err := <-sealed:
				if err != nil {
					return 0, 0, err
				}
				go func() { sealed <- st.Seal(ctx, engine.Sealing{}) }()
			default:
			}
		}
	}
	if err := <-sealed; err != nil {
		return 0, 0, err
	}
	if err := st.Seal(ctx, engine.Sealing{}); err != nil {
		return 0, 0, err
	}
	after, err := spentSoFar()
	return float64((after.processor - before.processor).Microseconds()) / rows, (after.written - before.written) / rows, err
}

func defineAll(st *store.Store, count int) ([]uint32, error) {
	var defs []series.Definition
	tiers, err := series.MakeTiers([]series.Tier{series.Minute})
	if err != nil {
		return nil, err
	}
	for _, p := range many(count) {
		defs = append(defs, series.Definition{
			Path:     series.Path(p),
			Kind:     series.Gauge,
			Unit:     "Cel",
			FreshFor: time.Minute,
			Tiers:    tiers,
		})
	}
	return st.Define(context.Background(), defs)
}

// minuteOf returns a summary of one minute for each of some series.
func minuteOf(ids []uint32, round int) (b engine.Batch) {
	start := historyBegin.Add(time.Duration(round) * time.Minute).UnixNano()
	for _, id := range ids {
		rows := rollup.NewBlock(series.Gauge, 1)
		v := 8 + float64((round*7+int(id)*13)%400)/100
		rollup.Summary{
			Count:   6,
			Mean:    v + 1/float64(round%50+3),
			M2:      v / 7,
			Min:     v - 0.1,
			Max:     v + 0.1,
			First:   v,
			Last:    v,
			Held:    v + 1/float64(round%50+5),
			Covered: time.Minute,
			MinAt:   start,
			MaxAt:   start + 10e9,
			FirstAt: start + 1e9,
			LastAt:  start + 51e9,
		}.AddTo(&rows, start, series.Gauge)
		b.Entries = append(b.Entries, engine.Entry{Series: id, Tier: series.Minute, Rows: rows})
	}
	return b
}

// startAndStop returns how long a central takes to start and to end with 100,000 series, when all that
// comes between two seals is in the journal, beside one with 1,000.
func startAndStop(dir string) ([]Row, error) {
	var start, stop [3]float64
	for i, n := range sizes {
		here := filepath.Join(dir, strconv.Itoa(n))
		if err := os.MkdirAll(filepath.Join(here, "c"), 0o700); err != nil {
			return nil, err
		}
		if err := journalOf(filepath.Join(here, "c", "nexocumula.db"), n); err != nil {
			return nil, err
		}
		begun := time.Now()
		p, err := startProcess(here, "central", fmt.Sprintf(wearCentral, filepath.Join(here, "c"), ""))
		if err != nil {
			return nil, err
		}
		start[i] = time.Since(begun).Seconds()
		begun = time.Now()
		p.stop()
		stop[i] = time.Since(begun).Seconds()
		fmt.Fprintf(os.Stderr, "%d series: start %.2f s, stop %.2f s\n", n, start[i], stop[i])
	}
	row := func(name string, v [3]float64, most float64) Row {
		return Row{
			Name: name, Unit: "s", Ours: v[2], Reference: fmt.Sprintf("with 1,000 series (10,000: %.3g)", v[1]),
			ReferenceValue: v[0], Ratio: v[2] / v[0], Goal: fmt.Sprintf("<= %.3g s", most), Met: v[2] <= most,
		}
	}
	return []Row{row("start_100000", start, 3), row("stop_100000", stop, 2)}, nil
}

// journalOf makes a store whose journal has as much as comes together before a seal.
func journalOf(path string, count int) error {
	st, err := openStore(path)
	if err != nil {
		return err
	}
	defer st.Close()
	ids, err := defineAll(st, count)
	if err != nil {
		return err
	}
	for round := 0; !st.SealDue(); round++ {
		for from := 0; from < count && !st.SealDue(); from += 1000 {
			if err := st.Append(context.Background(), minuteOf(ids[from:from+1000], round)); err != nil {
				return err
			}
		}
	}
	return nil
}
