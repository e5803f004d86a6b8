package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"nexocumula/internal/uplink"
	"nexocumula/internal/uplink/overhttp"
	"nexocumula/internal/wire"
)

// slowLink is a proxy like a radio link: so many bytes a second each way, half of a round trip of delay, and of twenty
// segments one that comes a round trip late, as one that was lost and sent again does.
type slowLink struct {
	net.Listener
	to      string
	bytes   float64 // a second
	delay   time.Duration
	crossed atomic.Int64
}

const segment = 512

func newSlowLink(to string, bits float64, roundTrip time.Duration) (*slowLink, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	out := &slowLink{Listener: l, to: to, bytes: bits / 8, delay: roundTrip / 2}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go out.carry(in)
		}
	}()
	return out, nil
}

func (s *slowLink) carry(in net.Conn) {
	defer in.Close()
	out, err := net.Dial("tcp", s.to)
	if err != nil {
		return
	}
	defer out.Close()
	ended := make(chan struct{}, 2)
	go func() { s.pump(out, in); ended <- struct{}{} }()
	go func() { s.pump(in, out); ended <- struct{}{} }()
	<-ended
}

type late struct {
	at   time.Time
	data []byte
}

func (s *slowLink) pump(to io.Writer, from io.Reader) {
	by := rate.NewLimiter(rate.Limit(s.bytes), segment)
	under := make(chan late, 10_000)
	go func() {
		defer close(under)
		last := time.Time{}
		for {
			piece := make([]byte, segment)
			n, err := from.Read(piece)
			if n > 0 {
				_ = by.WaitN(context.Background(), n)
				s.crossed.Add(int64(n))
				at := time.Now().Add(s.delay)
				if rand.IntN(20) == 0 {
					at = at.Add(2 * s.delay)
				}
				if at.Before(last) {
					at = last // what comes after it waits for it
				}
				last = at
				under <- late{at, piece[:n]}
			}
			if err != nil {
				return
			}
		}
	}()
	for piece := range under {
		time.Sleep(time.Until(piece.at))
		if _, err := to.Write(piece.data); err != nil {
			return
		}
	}
}

const thinSeries, thinHours = 10, 24

// thinLinks returns how many bytes a summary takes on slow links with two seconds of a round trip and segments that are
// lost, beside the same in bulk, while an outage is made good.
func thinLinks(dir string) (out []Row, err error) {
	bulk := 0.0
	for i, bits := range []float64{100e6, 256e3, 64e3, 8e3} {
		roundTrip := 2 * time.Second
		if i == 0 {
			roundTrip = 0
		}
		perRow, failures, err := thinLink(filepath.Join(dir, fmt.Sprint(i)), bits, roundTrip)
		if err != nil {
			return nil, err
		}
		if i == 0 {
			bulk = perRow
			continue
		}
		out = append(out, Row{
			Name: fmt.Sprintf("thin_%.0fkbit", bits/1e3), Unit: "bytes a summary", Ours: perRow, ReferenceValue: bulk, Ratio: perRow / bulk,
			Reference: fmt.Sprintf("in bulk; %d requests failed", failures), Goal: "known", Met: true,
		})
	}
	return out, nil
}

func thinLink(dir string, bits float64, roundTrip time.Duration) (perRow float64, failures uint64, err error) {
	if err := os.Mkdir(dir, 0o700); err != nil {
		return 0, 0, err
	}
	o, err := waiting(dir, thinSeries, thinHours)
	if err != nil {
		return 0, 0, err
	}
	defer o.st.Close()
	c, err := centralOf(dir, 1)
	if err != nil {
		return 0, 0, err
	}
	defer c.stop()
	link, err := newSlowLink(c.address[len("http://"):], bits, roundTrip)
	if err != nil {
		return 0, 0, err
	}
	defer link.Close()
	settings := outageUplink
	settings.Settings = overhttp.Settings{URL: "http://" + link.Addr().String(), Token: "bench"}
	sender, err := uplink.New(settings, o.box, uplink.From{
		As: "site-0", Describe: func() wire.Status { return wire.Status{SentAt: time.Now()} }, Store: o.st, Log: slog.New(slog.DiscardHandler),
	})
	if err != nil {
		return 0, 0, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 8*time.Minute)
	defer cancel()
	done := make(chan error, 1)
	go func() { done <- sender.Run(ctx) }()
	for o.box.Backlog().Rows > 0 {
		if ctx.Err() != nil {
			return 0, 0, fmt.Errorf("at %.0f bit/s %d summaries still wait: %s", bits, o.box.Backlog().Rows, sender.Tally().LastError)
		}
		time.Sleep(100 * time.Millisecond)
	}
	crossed := link.crossed.Load()
	cancel()
	return float64(crossed) / (thinSeries * thinHours * 60), sender.Tally().Failures, <-done
}
