package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/sim"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/uplink"
	"nexocumula/internal/uplink/overhttp"
	"nexocumula/internal/wire"
)

// outage is a gateway of many series whose summaries of a minute wait for its central.
type outage struct {
	st  *store.Store
	box *outbox.Outbox
	ids []uint32
}

var outageUplink = config.Uplink{Name: "up", Tiers: []series.Tier{series.Minute}}

// waiting makes days of what waits until a minute ago, of the demo's lake.
func waiting(dir string, count, hours int) (*outage, error) {
	st, err := openStore(filepath.Join(dir, "gateway.db"))
	if err != nil {
		return nil, err
	}
	o := &outage{st: st}
	if o.box, err = st.Outboxes.Open("up", uplink.ScopeOf(outageUplink, func(series.Path) bool { return true })); err != nil {
		return nil, err
	}
	field := sim.Field{Seed: 1}
	var model []column.Block
	for i := range count {
		id, err := defineOne(st, fmt.Sprintf("site-0/station-%d/q", i), series.Gauge)
		if err != nil {
			return nil, err
		}
		if known, _ := st.Get(id); len(model) < 96 {
			model = append(model, dayOf(field, i, &known.Definition))
		}
		o.ids = append(o.ids, id)
	}
	end := time.Now().Truncate(time.Minute)
	for begin := end.Add(-time.Duration(hours) * time.Hour); begin.Before(end); begin = begin.Add(24 * time.Hour) {
		var batch engine.Batch
		for i, id := range o.ids {
			batch.Entries = append(batch.Entries, engine.Entry{Series: id, Tier: series.Minute, Rows: moved(model[i%len(model)], begin)})
			if len(batch.Entries) == 100 || i == len(o.ids)-1 {
				if err := st.Append(context.Background(), batch); err != nil {
					return nil, err
				}
				batch = engine.Batch{}
			}
		}
		if err := st.Seal(context.Background(), engine.Sealing{}); err != nil {
			return nil, err
		}
	}
	return o, nil
}

// moved returns summaries of a day as those of another.
func moved(day column.Block, begin time.Time) column.Block {
	by := begin.UnixNano() - day.Times[0]
	out := rollup.NewBlock(series.Gauge, day.Len())
	for i, t := range day.Times {
		sum := rollup.FromRow(day, i, series.Gauge)
		for _, at := range []*int64{&sum.MinAt, &sum.MaxAt, &sum.FirstAt, &sum.LastAt} {
			*at += by
		}
		sum.AddTo(&out, t+by, series.Gauge)
	}
	return out
}

const outageSeries, outageHours = 1000, 72

// catchUp72 has a central catch up after three days, while a summary of each series is made each second, beside sending
// the same bytes to a server that writes and syncs them.
func catchUp72(dir string) ([]Row, error) {
	o, err := waiting(dir, outageSeries, outageHours)
	if err != nil {
		return nil, err
	}
	defer o.st.Close()
	c, err := centralOf(dir, 1)
	if err != nil {
		return nil, err
	}
	defer c.stop()
	settings := outageUplink
	settings.Settings = overhttp.Settings{URL: c.address, Token: "bench"}
	sender, err := uplink.New(settings, o.box, uplink.From{
		As: "site-0", Describe: func() wire.Status { return wire.Status{SentAt: time.Now()} }, Store: o.st, Log: slog.New(slog.DiscardHandler),
	})
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	done := make(chan error, 1)
	begun := time.Now()
	go func() { done <- sender.Run(ctx) }()
	late, err := o.live(ctx)
	if err != nil {
		return nil, fmt.Errorf("%w; the uplink says: %s", err, sender.Tally().LastError)
	}
	took := time.Since(begun)

	cancel()
	if err := <-done; err != nil {
		return nil, err
	}
	used := int(sender.Meter().Used().Today)
	bare, err := postedAndSynced(dir, used)
	if err != nil {
		return nil, err
	}
	rows := float64(outageSeries * outageHours * 60)
	speed := Row{
		Name: "catch_up_72h", Unit: "s", Ours: took.Seconds(),
		Reference:      fmt.Sprintf("sending the same %.0f MB to a server that writes and syncs them; %.1f bytes a summary", float64(used)/1e6, float64(used)/rows),
		ReferenceValue: bare.Seconds(), Ratio: took.Seconds() / bare.Seconds(), Goal: "<= 5",
	}
	speed.Met = speed.Ratio <= 5
	live := Row{
		Name: "catch_up_live", Unit: "s", Ours: late.Seconds(), Reference: "5 s, until what is made meanwhile is acknowledged, the longest", ReferenceValue: 5,
		Ratio: late.Seconds() / 5, Goal: "<= 5 s", Met: late <= 5*time.Second,
	}
	return []Row{speed, live}, nil
}

// live makes a summary of each series each second until nothing else waits, and returns the longest time until they
// were acknowledged.
func (o *outage) live(ctx context.Context) (late time.Duration, err error) {
	for o.box.Backlog().Rows > 2*outageSeries {
		minute := time.Now().Truncate(time.Minute).UnixNano()
		var batch engine.Batch
		for _, id := range o.ids {
			rows := rollup.NewBlock(series.Gauge, 1)
			v := float64(time.Now().UnixMilli()%10_000) / 100
			rollup.Summary{
				Count: 1, Mean: v, Min: v, Max: v, First: v, Last: v, MinAt: minute, MaxAt: minute, FirstAt: minute, LastAt: minute,
			}.AddTo(&rows, minute, series.Gauge)
			batch.Entries = append(batch.Entries, engine.Entry{Series: id, Tier: series.Minute, Rows: rows})
		}
		made := time.Now()
		if err := o.st.Append(ctx, batch); err != nil {
			return late, err
		}
		for o.box.Waits(marks.Of{Series: o.ids[len(o.ids)-1], Tier: series.Minute}, minute, minute+int64(time.Minute)) {
			if ctx.Err() != nil {
				return late, fmt.Errorf("%d summaries still wait", o.box.Backlog().Rows)
			}
			time.Sleep(5 * time.Millisecond)
		}
		late = max(late, time.Since(made))
		time.Sleep(time.Until(made.Add(time.Second)))
	}
	return late, nil
}

// postedAndSynced sends bytes in requests as large as an uplink's to a server that syncs each to its disk.
func postedAndSynced(dir string, n int) (time.Duration, error) {
	f, err := os.Create(filepath.Join(dir, "posted"))
	if err != nil {
		return 0, err
	}
	defer f.Close()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, err := io.Copy(f, r.Body)
		if err == nil {
			err = f.Sync()
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	}))
	defer server.Close()
	const piece = 64 << 10
	body := make([]byte, piece)
	begun := time.Now()
	for ; n > 0; n -= piece {
		answer, err := http.Post(server.URL, "application/octet-stream", bytes.NewReader(body[:min(n, piece)]))
		if err != nil {
			return 0, err
		}
		answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			return 0, fmt.Errorf("the bare server answered %s", answer.Status)
		}
	}
	return time.Since(begun), nil
}

const diskSeries, diskDays = 100, 30

// outageDisk returns what an outage of a month takes of a gateway's disk: summaries of a minute, and what says that they wait.
func outageDisk(dir string) (Row, error) {
	o, err := waiting(dir, diskSeries, 24*diskDays)
	if err != nil {
		return Row{}, err
	}
	if err := o.st.Close(); err != nil {
		return Row{}, err
	}
	about, err := os.Stat(filepath.Join(dir, "gateway.db"))
	if err != nil {
		return Row{}, err
	}
	row := Row{
		Name: "outage_disk", Unit: "MB", Ours: float64(about.Size()) * 1000 / diskSeries / 1e6,
		Reference: "700 MB; measured with 100 series, times 10", ReferenceValue: 700, Goal: "<= 700 MB",
	}
	row.Ratio = row.Ours / row.ReferenceValue
	row.Met = row.Ours <= row.ReferenceValue
	return row, nil
}
