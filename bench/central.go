package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/uplink"
	"nexocumula/internal/uplink/overhttp"
	"nexocumula/internal/wire"
)

const (
	hundred = 100 // gateways
	ten     = 10  // series of each
)

// centralOf starts a central for so many gateways.
func centralOf(dir string, gateways int) (*process, error) {
	if err := os.Setenv("BENCH_SECRET", "bench"); err != nil {
		return nil, err
	}
	var accept strings.Builder
	for i := range gateways {
		fmt.Fprintf(&accept, "    - { gateway: site-%d, secret_env: BENCH_SECRET }\n", i)
	}
	return startProcess(dir, "central", fmt.Sprintf(wearCentral, filepath.Join(dir, "c"), accept.String()))
}

// central100 returns what the summaries of 100 gateways with ten series at 0.1 Hz each cost a
// central. They are spread over the ten seconds, as gateways' clocks are.
func central100(dir string) ([]Row, error) {
	c, err := centralOf(dir, hundred)
	if err != nil {
		return nil, err
	}
	defer c.stop()
	ctx, cancel := context.WithCancel(context.Background())
	var wait sync.WaitGroup
	defer wait.Wait()
	defer cancel()
	failed := make(chan error, hundred)
	for g := range hundred {
		wait.Go(func() {
			if err := report(ctx, c.address, g); err != nil && ctx.Err() == nil {
				failed <- err
			}
		})
	}
	if err := rest(25*time.Second, failed); err != nil {
		return nil, err
	}
	var w worn
	if w.central[0], err = c.cost(); err != nil {
		return nil, err
	}
	if err := rest(wearFor, failed); err != nil {
		return nil, err
	}
	if w.central[1], err = c.cost(); err != nil {
		return nil, err
	}
	readings := float64(hundred*ten) * wearFor.Seconds() / 10
	written := Row{
		Name:           "central_bytes_per_reading",
		Unit:           "bytes",
		Ours:           (w.central[1].written - w.central[0].written) / readings,
		Reference:      "a time and a value",
		ReferenceValue: rawReading,
		Goal:           "<= 2000 bytes, as for its gateways",
	}
	written.Ratio = written.Ours / written.ReferenceValue
	written.Met = written.Ours <= 2000
	cpu := Row{
		Name:           "central_cpu_100_gateways",
		Unit:           "% of a core",
		Ours:           100 * w.cores(w.central),
		Reference:      "one core",
		ReferenceValue: 100,
		Goal:           "<= 8 %",
	}
	cpu.Ratio = cpu.Ours / 100
	cpu.Met = cpu.Ours <= 8
	memory := Row{
		Name:           "central_rss_100_gateways",
		Unit:           "MB",
		Ours:           w.central[1].peak / (1 << 20),
		Reference:      "a small board's 512 MB",
		ReferenceValue: 512,
		Goal:           "<= 64 MB, the most there was",
	}
	memory.Ratio = memory.Ours / memory.ReferenceValue
	memory.Met = memory.Ours <= 64
	return []Row{written, cpu, memory}, nil
}

// report sends what a gateway does: summaries of 10 s every ten seconds, of 1 min every
// minute.
func report(ctx context.Context, address string, g int) error {
	begun := time.Now().Truncate(time.Minute)
	session := fmt.Sprintf("session-%d", g)
	for n := 1; ; n++ {
		at := begun.Add(time.Duration(n)*10*time.Second + time.Duration(g)*10*time.Second/hundred)
		select {
		case <-time.After(time.Until(at)):
		case <-ctx.Done():
			return nil
		}
		tiers := []series.Tier{series.TenSecond}
		if n%6 == 0 {
			tiers = append(tiers, series.Minute)
		}
		var runs []wire.Run
		for i := range ten {
			for _, tier := range tiers {
				rows := rollup.NewBlock(series.Gauge, 1)
				start := tier.Start(begun.Add(time.Duration(n-6) * 10 * time.Second).UnixNano())
				v := 8 + float64((n*7+i*13+g)%400)/100
				rollup.Summary{
					Count:   1,
					Mean:    v,
					Min:     v,
					Max:     v,
					First:   v,
					Last:    v,
					Held:    v,
					Covered: 10 * time.Second,
					MinAt:   start,
					MaxAt:   start,
					FirstAt: start,
					LastAt:  start,
				}.AddTo(&rows,
					start, series.Gauge)
				def := series.Definition{
					Path:     series.Path(fmt.Sprintf("site-%d/station/q-%d", g, i)),
					Kind:     series.Gauge,
					FreshFor: time.Minute,
				}
				runs = append(runs, wire.Run{Def: def, Tier: tier, Rows: rows})
			}
		}
		if err := postBatch(ctx, address, wire.Envelope{
			Gateway: fmt.Sprintf("site-%d", g),
			Session: session,
			Number:  uint64(n),
		}, runs); err != nil {
			return err
		}
	}
}

func postBatch(ctx context.Context, address string, e wire.Envelope, runs []wire.Run) (err error) {
	if e.Batch, err = wire.EncodeBatch(runs, series.Tiers{}.All(), nil); err != nil {
		return err
	}
	body, err := e.Encode()
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address+wire.Path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer bench")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("the central answered %d: %s", resp.StatusCode, text)
	}
	return err
}

const (
	catchSeries = 100
	catchHours  = 72
)

// catchUp returns how much memory a central takes, at most, while a gateway catches up after
// three days: 3 million summaries.
func catchUp(dir string) ([]Row, error) {
	st, err := openStore(filepath.Join(dir, "gateway.db"))
	if err != nil {
		return nil, err
	}
	defer st.Close()
	if err := threeDays(st); err != nil {
		return nil, err
	}
	c, err := centralOf(dir, 1)
	if err != nil {
		return nil, err
	}
	defer c.stop()
	settings := config.Uplink{
		Name:     "up",
		Tiers:    series.Tiers{}.All(),
		Settings: overhttp.Settings{URL: c.address, Token: "bench"},
	}
	box, err := st.Outboxes.Open("up", uplink.ScopeOf(settings, func(series.Path) bool { return true }))
	if err != nil {
		return nil, err
	}
	sender, err := uplink.New(settings, box, uplink.From{
		As: "site-0", Describe: func() wire.Status { return wire.Status{SentAt: time.Now()} }, Store: st, Log: slog.New(slog.DiscardHandler),
	})
	if err != nil {
		return nil, err
	}
	summaries := float64(catchSeries * catchHours * (360 + 60))
	begun := time.Now()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- sender.Run(ctx) }()
	for sender.Outbox().Backlog().Rows > 0 {
		if time.Since(begun) > 5*time.Minute {
			cancel()
			return nil, fmt.Errorf("%d summaries still wait: %s", sender.Outbox().Backlog().Rows,
				sender.Tally().LastError)
		}
		time.Sleep(20 * time.Millisecond)
	}
	took := time.Since(begun).Seconds()
	cancel()
	if err := <-done; err != nil {
		return nil, err
	}
	cost, err := c.cost()
	if err != nil {
		return nil, err
	}
	memory := Row{
		Name:           "catch_up_central_rss",
		Unit:           "MB",
		Ours:           cost.peak / (1 << 20),
		Reference:      "a small board's 512 MB",
		ReferenceValue: 512,
		Goal:           "<= 200 MB, the most there was",
	}
	memory.Ratio = memory.Ours / memory.ReferenceValue
	memory.Met = memory.Ours <= 200
	speed := Row{
		Name:           "catch_up",
		Unit:           "summaries/s",
		Ours:           summaries / took,
		Reference:      "as they are made",
		ReferenceValue: catchSeries * (1.0/10 + 1.0/60),
		Goal:           "known",
		Met:            true,
	}
	speed.Ratio = speed.Ours / speed.ReferenceValue
	return []Row{memory, speed}, nil
}

func threeDays(st *store.Store) error {
	begin := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC).UnixNano()
	for i := range catchSeries {
		id, err := defineOne(st, fmt.Sprintf("site-0/station/q-%d", i), series.Gauge)
		if err != nil {
			return err
		}
		var batch engine.Batch
		for _, tier := range (series.Tiers{}).All() {
			n := int64(catchHours * time.Hour / time.Duration(tier))
			rows := rollup.NewBlock(series.Gauge, int(n))
			for k := range n {
				start := begin + k*int64(tier)
				v := 8 + float64((k*7+int64(i)*13)%400)/100
				rollup.Summary{
					Count:   10,
					Mean:    v + 0.1/float64(k+3),
					M2:      v / 7,
					Min:     v - 0.1,
					Max:     v + 0.1,
					First:   v,
					Last:    v,
					Held:    v + 0.1/float64(k+5),
					Covered: time.Duration(tier),
					MinAt:   start,
					MaxAt:   start + 1e9,
					FirstAt: start,
					LastAt:  start + 9e9,
				}.AddTo(&rows,
					start, series.Gauge)
			}
			batch.Entries = append(batch.Entries, engine.Entry{Series: id, Tier: tier, Rows: rows})
		}
		if err := st.Append(context.Background(), batch); err != nil {
			return err
		}
		if i%10 == 9 {
			if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
				return err
			}
		}
	}
	return nil
}

// demoMemory returns the most memory that the demo takes, and what it rests at.
func demoMemory(dir string) ([]Row, error) {
	p, err := startDemo(dir)
	if err != nil {
		return nil, err
	}
	defer p.stop()
	time.Sleep(45 * time.Second)
	cost, err := p.cost()
	if err != nil {
		return nil, err
	}
	now, err := field(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid), "VmRSS:")
	if err != nil {
		return nil, err
	}
	row := Row{
		Name:           "demo_peak",
		Unit:           "MB",
		Ours:           cost.peak / (1 << 20),
		Reference:      "what it rests at",
		ReferenceValue: now / 1024,
		Goal:           "<= 250 MB, the most there was",
	}
	row.Ratio = row.Ours / row.ReferenceValue
	row.Met = row.Ours <= 250
	return []Row{row}, nil
}
