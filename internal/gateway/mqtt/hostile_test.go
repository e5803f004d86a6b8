package mqtt

import (
	"io"
	"log/slog"
	"net"
	"path/filepath"
	"testing"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/store"
)

// FuzzListenersPort sends bytes to the port as a client that has connected, and as one that
// has not. The listener must go on taking what a good device sends.
func FuzzListenersPort(f *testing.F) {
	connect := []byte{0x10, 13, 0, 4, 'M', 'Q', 'T', 'T', 4, 2, 0, 60, 0, 1, 'x'}
	connect5 := []byte{0x10, 14, 0, 4, 'M', 'Q', 'T', 'T', 5, 2, 0, 60, 0, 0, 1, 'y'}
	for _, b := range [][]byte{
		publishPacket(1, "mast/x", "5"), {0x30, 0xff, 0xff, 0xff, 0x7f}, {0x82, 5, 0, 1, 0, 0, 1}, {0xe0, 0}, {0xc0, 0}, {0x62, 2, 0, 1}, connect, connect5,
		{0x34, 9, 0, 3, 'a', '/', 'b', 0, 1, '5', '5'}, {0x10, 0}, {0xf0, 2, 0, 0}, append(publishPacket(2, "mast/y",
			"1"),
			0x62, 2, 0, 2),
	} {
		f.Add(uint8(0), b)
		f.Add(uint8(1), b)
		f.Add(uint8(2), b)
	}
	st, err := store.Open(filepath.Join(f.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	if err != nil {
		f.Fatal(err)
	}
	pipe, err := pipeline.New(st,
		config.Gateway{Pace: config.CommitDelay{Messages: 20 * time.Millisecond, Polls: time.Second}},
		slog.New(slog.DiscardHandler))
	if err != nil {
		f.Fatal(err)
	}
	ctx := f.Context() // the fuzz target may not ask for it
	go func() { _ = pipe.Run(ctx) }()
	l := newListener("lake", listenerSettings{
		address:    "127.0.0.1:0",
		maxPayload: 1000,
		maxClients: 100,
		presence:   "long-mere/{client}/online",
		messages:   lake(),
	}, pipe, slog.New(slog.DiscardHandler))
	go func() { _ = l.Run(ctx) }()
	for !l.Tally().Up {
		time.Sleep(time.Millisecond)
	}
	f.Fuzz(func(t *testing.T, first uint8, data []byte) {
		c, err := net.Dial("tcp", l.Tally().Address)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(30 * time.Second))
		if first%3 > 0 {
			_, _ = c.Write([][]byte{connect, connect5}[first%3-1])
		}
		_, _ = c.Write(data)
		_ = c.(*net.TCPConn).CloseWrite()
		_, _ = io.Copy(io.Discard, c) // until the listener has had enough of it
		dial(t, l).connect("good", true).publish(1, 1, "mast/good", "5")
	})
}
