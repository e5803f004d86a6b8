package main

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"sync/atomic"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/reconcile"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/wire"
)

// reconcileMonth compares two ends that are the same, and says what a summary costs at both, and how many bytes cross.
func reconcileMonth(dir string) ([]Row, error) {
	var ends [2]*store.Store
	for i := range ends {
		st, err := openStore(filepath.Join(dir, fmt.Sprint("end-", i, ".db")))
		if err != nil {
			return nil, err
		}
		defer st.Close()
		if err := threeDays(st); err != nil {
			return nil, err
		}
		ends[i] = st
	}
	all := func(series.Path) bool { return true }
	box, err := ends[0].Outboxes.Open("up", outbox.Scope{Series: all, About: func(string) bool { return true }})
	if err != nil {
		return nil, err
	}
	kept := func(series.Tier) int64 { return 0 }
	teller := &reconcile.Teller{Store: ends[1], Kept: kept, Called: ends[1].Called}
	bytes := 0
	comparer := &reconcile.Comparer{
		Store: ends[0], Box: box, Sends: all, About: func(string) bool { return true }, Kept: kept,
		Ask: func(ctx context.Context, in wire.Compare) (wire.Compared, error) {
			out, err := teller.Compare(ctx, in, []string{"site-0"})
			for _, one := range []any{in, out} {
				text, encodeErr := wire.EncodeCompare(one)
				if err == nil {
					err = encodeErr
				}
				bytes += len(text)
			}
			return out, err
		},
	}
	from := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	to := from.AddDate(0, 0, 30)
	summaries := float64(catchSeries * catchHours * (360 + 60))
	runs := 0
	compared := func() error {
		runs++
		found, err := comparer.Run(context.Background(), from.UnixNano(), to.UnixNano())
		if err == nil && (found.Different() > 0 || float64(found.Rows) != summaries) {
			err = fmt.Errorf("%d of %v summaries are equal", found.Rows, summaries)
		}
		return err
	}
	read := func() error {
		for _, st := range ends {
			for _, s := range st.List(series.Everything()) {
				for _, tier := range s.Tiers.All() {
					want := engine.Wanted{Tier: tier, From: from.UnixNano(), To: to.UnixNano(), Need: rollup.NeedAll}
					if err := st.Scan(context.Background(), s.ID, want, nothing{}); err != nil {
						return err
					}
				}
			}
		}
		return nil
	}
	p, err := inTurn(5, compared, read)
	if err != nil {
		return nil, err
	}
	row := p.row("ns a summary", 1e9/summaries, "reading the same at both ends", "<= 3", func(ratio float64) bool { return ratio <= 3 })
	row.Name = "reconcile_month"
	cost := Row{
		Name: "reconcile_bytes", Unit: "kB for ends that are the same", Ours: float64(bytes) / float64(runs) / 1000, Reference: "what is allowed for 1,000 series and 30 days",
		ReferenceValue: 200, Goal: "<= 1",
	}
	cost.Ratio = cost.Ours / cost.ReferenceValue
	cost.Met = cost.Ratio <= 1
	return []Row{row, cost}, nil
}

// nothing is a sink that only takes.
type nothing struct{}

func (nothing) Rows(column.Block, int64) error           { return nil }
func (nothing) Whole(int64, int64, rollup.Summary) error { return nil }

// counted counts what crosses a listener's connections.
type counted struct {
	net.Listener
	bytes *atomic.Int64
}

type countedConn struct {
	net.Conn
	bytes *atomic.Int64
}

func (c counted) Accept() (net.Conn, error) {
	conn, err := c.Listener.Accept()
	return countedConn{conn, c.bytes}, err
}

func (c countedConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.bytes.Add(int64(n))
	return n, err
}

func (c countedConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.bytes.Add(int64(n))
	return n, err
}

// bytesPerSummary sends what 30 series make, a batch a minute, and counts all that crosses: headers and TLS too.
func bytesPerSummary(string) (Row, error) {
	const sources, minutes = 30, 60
	var crossed atomic.Int64
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"life":"VD3B3CMXBB7TWNY2CFDLZM76I5","stored":12345,"speaks":5}`)
	}))
	server.Listener = counted{server.Listener, &crossed}
	server.StartTLS()
	defer server.Close()
	by := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: server.Client().Transport.(*http.Transport).TLSClientConfig.RootCAs}}}
	before := http.DefaultClient
	http.DefaultClient = by
	defer func() { http.DefaultClient = before }()
	begin := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC).UnixNano()
	summaries := 0
	for minute := range int64(minutes) {
		var runs []wire.Run
		for i := range int64(sources) {
			for _, tier := range (series.Tiers{}).All() {
				rows := rollup.NewBlock(series.Gauge, 6)
				for start := begin + minute*int64(time.Minute); start < begin+(minute+1)*int64(time.Minute); start += int64(tier) {
					steps := 800 + (start/1e9*7+i*13)%400 // of a hundredth, as sensors have them
					low, high := float64(steps-5)/100, float64(steps+5)/100
					mean := (low + high) / 2
					rollup.Summary{
						Count: 2, Mean: mean, M2: (high - mean) * (high - low), Min: low, Max: high, First: low, Last: high, Held: mean, Covered: time.Duration(tier),
						MinAt: start + 1e9, MaxAt: start + 6e9, FirstAt: start + 1e9, LastAt: start + 6e9,
					}.AddTo(&rows, start, series.Gauge)
				}
				summaries += rows.Len()
				runs = append(runs, wire.Run{Def: series.Definition{
					Path: series.Path(fmt.Sprintf("alder-weir/pump-%d/q-%d", i%4, i)), Kind: series.Gauge, Unit: "Cel", FreshFor: time.Minute,
				}, Tier: tier, Rows: rows})
			}
		}
		if err := postBatch(context.Background(), server.URL, wire.Envelope{
			Gateway: "alder-weir", Session: "VD3B3CMXBB7TWNY2CFDLZM76I5", Number: uint64(minute + 1),
			Acked: wire.Position{Life: "VD3B3CMXBB7TWNY2CFDLZM76I5", Stored: uint64(minute)}, Status: wire.Status{SentAt: time.Unix(0, begin), Version: "v1.2.3"},
		}, runs); err != nil {
			return Row{}, err
		}
	}
	r := Row{
		Name: "bytes_per_summary", Unit: "bytes on the wire, a batch a minute", Ours: float64(crossed.Load()) / float64(summaries),
		Reference: "a mean and a count, uncompressed", ReferenceValue: 16, Goal: "<= 8 bytes",
	}
	r.Ratio = r.Ours / r.ReferenceValue
	r.Met = r.Ours <= 8
	return r, nil
}
