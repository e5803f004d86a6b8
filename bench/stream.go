package main

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"
)

const (
	streamSeries = 2000
	streamFor    = 10 * time.Second
)

// streamMany returns what live streams of 2,000 series that change each second cost a gateway, as a share
// of a core: what it takes with them less what it takes without.
func streamMany(dir string, clients int) (Row, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return Row{}, err
	}
	listen, err := freePort()
	if err != nil {
		return Row{}, err
	}
	g, err := startProcess(dir, "gateway", fmt.Sprintf(wearGateway, filepath.Join(dir, "g"), listen, ""))
	if err != nil {
		return Row{}, err
	}
	defer g.stop()
	ctx, cancel := context.WithCancel(context.Background())
	var wait sync.WaitGroup
	defer wait.Wait()
	defer cancel()
	const connections = 10
	failed := make(chan error, connections+clients)
	for k := range connections {
		wait.Go(func() {
			if err := speak(ctx, listen, k, connections, streamSeries, time.Second, true, func(time.Duration) {}); err != nil && ctx.Err() == nil {
				failed <- err
			}
		})
	}
	used := func() (float64, error) {
		before, err := g.cost()
		if err != nil {
			return 0, err
		}
		if err := rest(streamFor, failed); err != nil {
			return 0, err
		}
		after, err := g.cost()
		return 100 * (after.cpu - before.cpu) / streamFor.Seconds(), err
	}
	if err := rest(5*time.Second, failed); err != nil {
		return Row{}, err
	}
	without, err := used()
	if err != nil {
		return Row{}, err
	}
	var heard atomic.Int64
	for k := range clients {
		wait.Go(func() {
			if err := follow(ctx, from(k%5), g.address+"/api/v1/stream?brief=true", &heard); err != nil &&
				ctx.Err() == nil {
				failed <- err
			}
		})
	}
	if err := rest(5*time.Second, failed); err != nil {
		return Row{}, err
	}
	heard.Store(0)
	with, err := used()
	if err != nil {
		return Row{}, err
	}
	each := float64(heard.Load()) / float64(clients) / streamFor.Seconds()
	row := Row{
		Unit: "% of a core", Ours: with - without, Reference: fmt.Sprintf("without streams; each got %.0f kB/s",
			each/1000),
		ReferenceValue: without, Ratio: (with - without) / without, Goal: "<= 10",
	}
	row.Met = row.Ours <= 10
	return row, nil
}

// from returns a client at one of this machine's own addresses: the streams of one address are bounded.
func from(k int) *http.Client {
	dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, byte(2+k))}}
	return &http.Client{Transport: &http.Transport{DialContext: dialer.DialContext}}
}

// follow reads a stream until ctx ends.
func follow(ctx context.Context, client *http.Client, address string, heard *atomic.Int64) error {
	ask, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return err
	}
	resp, err := client.Do(ask)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	room := make([]byte, 64<<10)
	for {
		n, err := resp.Body.Read(room)
		heard.Add(int64(n))
		if err != nil {
			if err == io.EOF {
				err = fmt.Errorf("a stream ended")
			}
			return err
		}
	}
}
