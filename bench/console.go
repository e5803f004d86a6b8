package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/heapprofiler"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"golang.org/x/sync/errgroup"

	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/kinds"
	"nexocumula/internal/service"
	"nexocumula/internal/store/engine"
	"nexocumula/test/browser"
)

// console is a central with a browser that looks at its console.
type console struct {
	service *service.Service
	tab     context.Context
	ctx     context.Context
	group   errgroup.Group // of what publishes
	profile string
	paused  atomic.Bool // nothing is published meanwhile
	ids     []uint32
	stop    func() error
}

// look starts one whose series, of which 16 share a station, have summaries of a minute for some days.
func look(dir string, count, days int) (_ *console, err error) {
	settings, err := config.Parse("central.yaml", []byte(centralFile), kinds.All)
	if err != nil {
		return nil, err
	}
	settings.Data = dir
	c := &console{profile: filepath.Join(dir, "profile")}
	if c.service, err = service.Open(settings, "bench", slog.New(slog.DiscardHandler)); err != nil {
		return nil, err
	}
	if err := c.fill(count, days); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- c.service.Run(ctx) }()
	c.ctx = ctx
	tab, closeTab, err := browser.Open(ctx, c.profile)
	if err != nil {
		closeTab = func() {}
	}
	c.tab = tab
	c.stop = func() error {
		closeTab()
		cancel()
		return errors.Join(<-done, c.group.Wait())
	}
	if err != nil {
		return nil, errors.Join(err, c.stop())
	}
	return c, chromedp.Do(tab, browser.Size(1280, 800))
}

func (c *console) fill(count, days int) (err error) {
	var defs []series.Definition
	for i := range count {
		path := fmt.Sprintf("bench/station-%03d/value_%02d", i/16, i%16)
		defs = append(defs, series.Definition{
			Path:     series.Path(path),
			Kind:     series.Gauge,
			Unit:     "Cel",
			FreshFor: time.Minute,
		})
	}
	if c.ids, err = c.service.Store.Define(context.Background(), defs); err != nil {
		return err
	}
	begin := series.Minute.Start(time.Now().Add(-time.Duration(days) * 24 * time.Hour).UnixNano())
	rows := days * 24 * 60
	for i, id := range c.ids {
		block := rollup.NewBlock(series.Gauge, rows)
		for n := range rows {
			at := begin + int64(n)*int64(time.Minute)
			v := 10 + 5*math.Sin(float64(n)/229+float64(i)) + float64(n%7)/100
			rollup.Summary{
				Count:   6,
				Mean:    v,
				Min:     v - 0.1,
				Max:     v + 0.1,
				First:   v,
				Last:    v,
				FirstAt: at,
				LastAt:  at + int64(50*time.Second),
				Covered: time.Minute,
			}.AddTo(&block,
				at, series.Gauge)
		}
		if err := c.service.Store.Append(context.Background(),
			engine.Batch{Entries: []engine.Entry{{Series: id, Tier: series.Minute, Rows: block}}}); err != nil {
			return err
		}
	}
	return nil
}

// goLive publishes from now on.
func (c *console) goLive() { c.group.Go(func() error { return c.publish(c.ctx) }) }

// publish gives every series a new reading each second until ctx ends.
func (c *console) publish(ctx context.Context) error {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for n := 0; ; n++ {
		var batch engine.Batch
		for i, id := range c.ids {
			if c.paused.Load() {
				break
			}
			b := column.New(1, 1)
			b.Add(time.Now().UnixNano(), float64((n+i)%1000)/100)
			batch.Entries = append(batch.Entries, engine.Entry{Series: id, Rows: b})
		}
		if err := c.service.Store.Append(context.Background(), batch); err != nil && ctx.Err() == nil {
			return err
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

func (c *console) do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(c.tab, 2*time.Minute)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// measured returns the result of a script in the page.
func measured[T any](c *console, script string) (T, error) {
	ctx, cancel := context.WithTimeout(c.tab, 2*time.Minute)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[T](script, chromedp.EvalAwaitPromise))
}

// consoleFirstView returns what the console weighs, and how long it takes until the first value is to be
// seen, beside the bare answers with the same values.
func consoleFirstView(dir string) ([]Row, error) {
	c, err := look(dir, 100, 1)
	if err != nil {
		return nil, err
	}
	c.goLive()
	const seen = `document.querySelector("[data-series] td")`
	if err := c.do(chromedp.Navigate(c.service.Address+"/"), browser.Until(seen)); err != nil {
		return nil, err
	}
	// What came over the wire, once the first values were there.
	bytes, err := measured[float64](c,
		`performance.getEntriesByType("resource").filter((e) => /\.(js|css)$/.test(new URL(e.name).pathname)).reduce((n, e) => n + e.encodedBodySize, 0)`)
	if err != nil {
		return nil, err
	}
	weight := Row{
		Name:           "console_first_view_bytes",
		Unit:           "KB",
		Ours:           bytes / 1000,
		Reference:      "250 KB",
		ReferenceValue: 250,
		Ratio:          bytes / 250e3,
		Goal:           "<= 250 KB of script and style, compressed",
		Met:            bytes <= 250e3,
	}
	// The page itself sees when the first value stands in it.
	if err := c.do(before(`new MutationObserver((_, o) => { if (document.querySelector("[data-series] td")) { window.firstValue = performance.now(); o.disconnect() } }).observe(document, { childList: true, subtree: true })`)); err != nil {
		return nil, err
	}
	var p pairs
	for range 9 {
		bare, err := c.bare(`"session", "series", "now"`)
		if err != nil {
			return nil, err
		}
		if err := c.do(chromedp.Navigate(c.service.Address+"/"), browser.Until(seen)); err != nil {
			return nil, err
		}
		ours, err := measured[float64](c, `window.firstValue`)
		if err != nil {
			return nil, err
		}
		p.add(ours/1000, bare/1000)
	}
	row := p.row("ms", 1e3, "the same answers by bare fetch", "<= 5", func(ratio float64) bool { return ratio <= 5 })
	row.Name = "console_first_view"
	return []Row{weight, row}, c.stop()
}

// bare returns how many ms calls take that are made at the same time, on a page that does nothing else.
func (c *console) bare(calls string) (float64, error) {
	if err := c.do(chromedp.Navigate(c.service.Address + "/api/board.schema.json")); err != nil {
		return 0, err
	}
	return measured[float64](c, `(async () => {
		const begun = performance.now();
		await Promise.all([`+calls+`].map(async (call) => (await fetch("/api/v1/" + call)).json()));
		return performance.now() - begun;
	})()`)
}

// consoleYear is eight series over a year, until they are drawn, beside the answer alone.
func consoleYear(dir string) (Row, error) {
	c, err := look(dir, 8, 365)
	if err != nil {
		return Row{}, err
	}
	var paths []string
	for i := range 8 {
		paths = append(paths, fmt.Sprintf("bench/station-000/value_%02d", i))
	}
	from, to := time.Now().Add(-365*24*time.Hour).UTC(), time.Now().UTC()
	var p pairs
	for n := range 9 {
		// Each time another range, so that nothing of it is known yet.
		span := func(k int) string {
			shift := time.Duration(2*n+k) * time.Hour
			return fmt.Sprintf("from=%s&to=%s", from.Add(shift).Format(time.RFC3339),
				to.Add(-shift).Format(time.RFC3339))
		}
		bare, err := c.bare(strconv.Quote("windows?zone=UTC&width=1d&stats=mean,min,max,min_at,max_at,last,last_at,count&" + span(0) + "&select=" + strings.Join(paths,
			"&select=")))
		if err != nil {
			return Row{}, err
		}
		if err := c.do(chromedp.Navigate(c.service.Address+"/trends?lane=chart:bench/station-000/value_00&last=1h"),
			browser.Until(`document.querySelector("[data-row]")`)); err != nil {
			return Row{}, err
		}
		time.Sleep(time.Second) // what the page itself began with is over
		drawn, err := measured[float64](c, fmt.Sprintf(`(async () => {
			const begun = performance.now();
			history.pushState(null, "", "/trends?lane=chart:%s&%s");
			dispatchEvent(new PopStateEvent("popstate", { state: null }));
			while (document.querySelectorAll("[data-label]").length < 8) await new Promise((done) => requestAnimationFrame(done));
			return performance.now() - begun;
		})()`, strings.Join(paths, ","), span(1)))
		if err != nil {
			return Row{}, err
		}
		p.add(drawn/1000, bare/1000)
	}
	row := p.row("ms", 1e3, "the answer alone", "<= 2", func(ratio float64) bool { return ratio <= 2 })
	return row, c.stop()
}

// consoleNow2000 returns what it costs the browser to show 2,000 series that change each second.
func consoleNow2000(dir string) (Row, error) {
	c, err := look(dir, 2000, 1)
	if err != nil {
		return Row{}, err
	}
	c.goLive()
	if err := c.do(unrecorded, chromedp.Navigate(c.service.Address+"/"),
		browser.Until(`document.querySelectorAll("[data-series]").length > 20`)); err != nil {
		return Row{}, err
	}
	time.Sleep(5 * time.Second)
	share, err := c.processor(30 * time.Second)
	if err != nil {
		return Row{}, err
	}
	row := Row{
		Unit:           "% of a core",
		Ours:           100 * share,
		Reference:      "15 % of a core",
		ReferenceValue: 15,
		Ratio:          share / 0.15,
		Goal:           "<= 15 %",
		Met:            share <= 0.15,
	}
	return row, c.stop()
}

// faster makes the page's clock run so many times as fast, by which each board has an hour, as a page
// needs its time to come.
const (
	faster = 120
	turn   = time.Hour
)

// consoleWall returns what a board on the wall costs: the processor at the pace of the world, and the memory
// over 24 hours that pass faster than they would.
func consoleWall(dir string) ([]Row, error) {
	c, err := look(dir, 32, 2)
	if err != nil {
		return nil, err
	}
	c.goLive()
	wall := c.service.Address + "/wall?board=of:bench/station-000&board=of:bench/station-001"
	shown := browser.Until(`document.querySelectorAll("[data-row]").length > 8`)
	if err := c.do(unrecorded, chromedp.Navigate(wall), shown); err != nil {
		return nil, err
	}
	time.Sleep(5 * time.Second)
	share, err := c.processor(60 * time.Second)
	if err != nil {
		return nil, err
	}
	cost := Row{
		Name:           "console_wall",
		Unit:           "% of a core",
		Ours:           100 * share,
		Reference:      "10 % of a core",
		ReferenceValue: 10,
		Ratio:          share / 0.1,
		Goal:           "<= 10 %",
		Met:            share <= 0.1,
	}
	hurry := fmt.Sprintf(`(() => {
		const by = %d, begun = Date.now(), Real = Date, later = setTimeout, again = setInterval;
		const now = () => begun + (Real.now() - begun) * by;
		window.Date = class extends Real { constructor(...a) { a.length ? super(...a) : super(now()) } static now() { return now() } };
		window.setTimeout = (f, ms = 0, ...a) => {
			const run = () => (window.still ? later(run, 20) : f(...a));
			return later(run, ms / by);
		};
		window.setInterval = (f, ms = 0, ...a) => again(() => window.still || f(...a), ms / by);
	})()`, faster)
	if err := c.do(before(hurry), chromedp.Navigate("about:blank"),
		chromedp.Navigate(fmt.Sprintf("%s&turn=%.0f", wall, turn.Seconds()))); err != nil {
		return nil, err
	}
	day := 24 * time.Hour / faster
	time.Sleep(day / 6) // what is kept for a while is there by now
	var rows float64
	for tries := 0; rows < 8; tries++ { // it may just have turned
		if tries > 20 {
			return nil, fmt.Errorf("the wall shows %v rows", rows)
		}
		time.Sleep(100 * time.Millisecond)
		if rows, err = measured[float64](c, `document.querySelectorAll("[data-row]").length`); err != nil {
			return nil, err
		}
	}
	early, err := c.heap()
	if err != nil {
		return nil, err
	}
	time.Sleep(day)
	late, err := c.heap()
	if err != nil {
		return nil, err
	}
	memory := Row{
		Name:           "console_wall_memory",
		Unit:           "MB",
		Ours:           late / (1 << 20),
		Reference:      "24 h of the page's clock before",
		ReferenceValue: early / (1 << 20),
		Ratio:          late / early,
		Goal:           "<= 1.1",
		Met:            late <= 1.1*early,
	}
	return []Row{cost, memory}, c.stop()
}

// before has every page run a script before its own.
func before(script string) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, t, page.AddScriptToEvaluateOnNewDocument,
			page.AddScriptToEvaluateOnNewDocumentParams{Source: script})
		return chromedp.Void{}, err
	}
}

// unrecorded ends the record of every answer that a browser keeps, in the page's own heap, for who drives it;
// a browser that people use keeps none.
func unrecorded(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
	_, err := cdp.Call(ctx, t, network.Disable, cdp.Empty{})
	return chromedp.Void{}, err
}

// heap returns what the page's script keeps, measured while it rests: no timer runs, nothing is published, and
// what was on its way has come. It is the least of some times over the turns of all boards, as they are not alike.
func (c *console) heap() (float64, error) {
	least := math.Inf(1)
	for range 6 {
		kept, err := c.atRest()
		if err != nil {
			return 0, err
		}
		least = min(least, kept)
		time.Sleep(turn / faster / 2)
	}
	return least, nil
}

func (c *console) atRest() (float64, error) {
	c.paused.Store(true)
	defer c.paused.Store(false)
	if _, err := measured[bool](c, `window.still = true`); err != nil {
		return 0, err
	}
	time.Sleep(3 * time.Second)
	var kept float64
	look := func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		for range 2 { // what the first one lets go may have held something
			if _, err := cdp.Call(ctx, t, heapprofiler.CollectGarbage, cdp.Empty{}); err != nil {
				return chromedp.Void{}, err
			}
		}
		usage, err := cdp.Call(ctx, t, runtime.GetHeapUsage, cdp.Empty{})
		kept = usage.UsedSize + usage.EmbedderHeapUsedSize
		return chromedp.Void{}, err
	}
	if err := c.do(look); err != nil {
		return 0, err
	}
	_, err := measured[bool](c, `window.still = false`)
	return kept, err
}

// processor returns the share of a core that all processes of the browser used over a time.
func (c *console) processor(over time.Duration) (float64, error) {
	begun, before, err := time.Now(), 0.0, error(nil)
	if before, err = c.used(); err != nil {
		return 0, err
	}
	time.Sleep(over)
	after, err := c.used()
	return (after - before) / time.Since(begun).Seconds(), err
}

// used returns the seconds that the browser's processes ran: those that were started with its profile, and
// those that they started.
func (c *console) used() (seconds float64, err error) {
	all, err := filepath.Glob("/proc/[0-9]*")
	if err != nil {
		return 0, err
	}
	ours := map[string]bool{}
	parents := map[string]string{}
	for _, at := range all {
		pid := filepath.Base(at)
		line, _ := os.ReadFile(at + "/cmdline") // it may have ended meanwhile
		ours[pid] = strings.Contains(string(line), c.profile)
		if stat, err := os.ReadFile(at + "/stat"); err == nil {
			_, rest, _ := strings.Cut(string(stat), ") ")
			if fields := strings.Fields(rest); len(fields) > 2 {
				parents[pid] = fields[1]
			}
		}
	}
	for pid := range parents {
		for up := pid; up != "" && up != "1"; up = parents[up] {
			if ours[up] {
				ran, _ := onProcessor("/proc/" + pid + "/task/")
				seconds += ran
				break
			}
		}
	}
	if seconds == 0 {
		return 0, fmt.Errorf("no process has the profile %s", strconv.Quote(c.profile))
	}
	return seconds, nil
}
