package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"time"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/wire"
)

const (
	thousandGateways = 1000
	thousandSeries   = 50 // of each
	thousandMinutes  = 3  // of which the first, in which all is new, does not count
)

// central1000 returns how long a thousand gateways with fifty series each wait for the acknowledgements of their summaries
// of a minute, spread over the minute, beside appending and syncing as many bytes at the same moments.
func central1000(dir string) ([]Row, error) {
	c, err := centralOf(dir, thousandGateways)
	if err != nil {
		return nil, err
	}
	defer c.stop()
	ctx, cancel := context.WithTimeout(context.Background(), (thousandMinutes+2)*time.Minute)
	defer cancel()
	var took timings
	failed := make(chan error, thousandGateways)
	var wait sync.WaitGroup
	begun := time.Now().Add(2 * time.Second)
	for g := range thousandGateways {
		wait.Go(func() {
			if err := minutesOf(ctx, c.address, g, begun, &took); err != nil {
				failed <- err
				cancel()
			}
		})
	}
	wait.Wait()
	select {
	case err := <-failed:
		return nil, err
	default:
	}
	cost, err := c.cost()
	if err != nil {
		return nil, err
	}
	bare, err := appendedAndSynced(dir, 2000)
	if err != nil {
		return nil, err
	}
	p99 := quantile(took.seconds, 0.99)
	acks := Row{
		Name: "central_1000_gateways", Unit: "ms", Ours: 1e3 * p99, Reference: "99th percentile of appending and syncing 2 kB", ReferenceValue: 1e3 * bare,
		Ratio: p99 / bare, Goal: "<= 1000 ms, 99th percentile of acknowledgements", Met: p99 <= 1,
	}
	memory := Row{
		Name: "central_1000_gateways_rss", Unit: "MB", Ours: cost.peak / (1 << 20), Reference: "1.2 GB", ReferenceValue: 1.2 * 1024,
		Goal: "<= 1.2 GB, the most there was",
	}
	memory.Ratio = memory.Ours / memory.ReferenceValue
	memory.Met = memory.Ratio <= 1
	return []Row{acks, memory}, nil
}

type timings struct {
	mu      sync.Mutex
	seconds []float64
}

func (t *timings) add(took time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.seconds = append(t.seconds, took.Seconds())
}

// minutesOf sends what a gateway does, once a minute at a second of its own.
func minutesOf(ctx context.Context, address string, g int, begun time.Time, took *timings) error {
	session := fmt.Sprintf("session-%d", g)
	for n := range thousandMinutes {
		at := begun.Add(time.Duration(n)*time.Minute + time.Duration(g)*time.Minute/thousandGateways)
		select {
		case <-time.After(time.Until(at)):
		case <-ctx.Done():
			return ctx.Err()
		}
		start := series.Minute.Start(at.Add(-time.Minute).UnixNano())
		var runs []wire.Run
		for i := range thousandSeries {
			v := 8 + float64((n*7+i*13+g)%400)/100
			rows := rollup.NewBlock(series.Gauge, 1)
			rollup.Summary{
				Count: 6, Mean: v + 0.013, Min: v, Max: v + 0.05, First: v, Last: v + 0.02, Held: v + 0.013, Covered: time.Minute,
				MinAt: start, MaxAt: start + 40e9, FirstAt: start, LastAt: start + 50e9,
			}.AddTo(&rows, start, series.Gauge)
			runs = append(runs, wire.Run{
				Def:  series.Definition{Path: series.Path(fmt.Sprintf("site-%d/station/q-%d", g, i)), Kind: series.Gauge, FreshFor: time.Minute},
				Tier: series.Minute, Rows: rows,
			})
		}
		made := time.Now()
		if err := postBatch(ctx, address, wire.Envelope{Gateway: fmt.Sprintf("site-%d", g), Session: session, Number: uint64(n + 1)}, runs); err != nil {
			return err
		}
		if n > 0 {
			took.add(time.Since(made))
		}
	}
	return nil
}

// appendedAndSynced returns the 99th percentile of how long a bare append with a sync takes.
func appendedAndSynced(dir string, times int) (float64, error) {
	f, err := os.Create(filepath.Join(dir, "bare"))
	if err != nil {
		return 0, err
	}
	defer f.Close()
	body := make([]byte, 2000)
	for i := range body {
		body[i] = byte(rand.Uint32())
	}
	var took timings
	for range times {
		begun := time.Now()
		if _, err := f.Write(body); err != nil {
			return 0, err
		}
		if err := f.Sync(); err != nil {
			return 0, err
		}
		took.add(time.Since(begun))
	}
	return quantile(took.seconds, 0.99), nil
}
