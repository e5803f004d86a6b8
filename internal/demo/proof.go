package demo

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/service"
	"nexocumula/internal/store/engine"
)

// Findings are the results of a proof.
type Findings struct {
	Series    int
	Readings  int       // at the gateways
	Summaries int       // at the central
	Missing   int       // summaries that readings call for and the central does not have
	Extra     int       // summaries at the central that no readings call for
	Until     time.Time // windows that ended later were left out, as they may still be open
	Different int       // summaries that count other readings than there are, or differ between gateway and central
}

// settleIn is how long after its end a window may still be open, or on its way.
const settleIn = 15 * time.Second

// Clean reports whether nothing was lost and nothing came twice.
func (f Findings) Clean() bool { return f.Missing+f.Extra+f.Different == 0 }

const all = int64(1) << 62

// Prove compares what the central holds with the gateways' readings: it counts each
// gateway's readings window by window and expects just these windows, with just these
// counts, at the central. Of windows whose readings were thinned, the gateway's own summary says how many
// there were. Windows that may still be open are left out.
func (w *World) Prove() (Findings, error) {
	var f Findings
	f.Until = time.Now().Add(-settleIn)
	settled := f.Until.UnixNano()
	there := map[series.Path]uint32{}
	for _, s := range w.Central.Store.List(series.Everything()) {
		there[s.Path] = s.ID
	}
	for _, g := range w.Gateways {
		for _, s := range g.Store.List(series.Everything()) {
			f.Series++
			readings, err := g.Store.Read(context.Background(), s.ID, series.Readings, -all, all)
			if err != nil {
				return f, err
			}
			f.Readings += readings.Len() + int(s.Thinned.Arrived-s.Thinned.Kept)
			for _, tier := range s.Tiers.All() {
				if err := f.compare(g, w.Central, s, there[s.Path], tier, readings, settled); err != nil {
					return f, err
				}
			}
		}
	}
	return f, nil
}

func (f *Findings) compare(gateway, central *service.Service, here engine.Series, there uint32, tier series.Tier, readings column.Block, settled int64) error {
	wanted := map[int64]float64{}
	for _, t := range readings.Times {
		wanted[tier.Start(t)]++
	}
	own, err := gateway.Store.Read(context.Background(), here.ID, tier, -all, all)
	if err != nil {
		return err
	}
	rows, err := central.Store.Read(context.Background(), there, tier, -all, all)
	if err != nil {
		return err
	}
	for i, start := range own.Times {
		if start < here.ThinnedTo {
			wanted[start] = own.Cols[rollup.ColCount][i]
		}
	}
	f.Summaries += rows.Len()
	for i, start := range rows.Times {
		count, ok := wanted[start]
		delete(wanted, start)
		if start+int64(tier) > settled {
			continue
		}
		k := own.Search(start)
		switch {
		case !ok:
			f.Extra++
		case count != rows.Cols[0][i] || k == own.Len() || own.Times[k] != start || !sameRow(own, k, rows, i):
			f.Different++
		}
	}
	for start := range wanted {
		if start+int64(tier) <= settled {
			f.Missing++
		}
	}
	return nil
}

func sameRow(a column.Block, i int, b column.Block, k int) bool {
	n := min(len(a.Cols), len(b.Cols)) // columns that one lacks are 0
	zero := func(cols [][]float64, i int) bool {
		return !slices.ContainsFunc(cols, func(x []float64) bool { return x[i] != 0 })
	}
	same := func(x, y []float64) bool { return x[i] == y[k] || math.IsNaN(x[i]) && math.IsNaN(y[k]) }
	return slices.EqualFunc(a.Cols[:n], b.Cols[:n], same) && zero(a.Cols[n:], i) && zero(b.Cols[n:], k)
}

// ProveUntilClean repeats the proof while summaries are still on their way, until it
// is clean or the time is up, and returns the last findings.
func (w *World) ProveUntilClean(ctx context.Context, within time.Duration) (Findings, error) {
	deadline := time.Now().Add(within)
	for {
		f, err := w.Prove()
		if err != nil || f.Clean() || time.Now().After(deadline) {
			return f, err
		}
		select {
		case <-time.After(500 * time.Millisecond):
		case <-ctx.Done():
			return f, fmt.Errorf("the proof was stopped: %w", ctx.Err())
		}
	}
}
