package main

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"
)

const (
	besideSeries  = 4000 // one reading a second each
	besideClients = 8
	besideFor     = 12 * time.Second
)

// acksBeside returns how long senders wait for acknowledgements of 4,000 readings a second, at the
// 99th percentile, while eight clients ask without a pause, beside how long it is while nobody
// does.
func acksBeside(dir string) (Row, error) {
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
	var mu sync.Mutex
	var took []float64
	const connections = 10
	failed := make(chan error, connections)
	for k := range connections {
		wait.Go(func() {
			err := speak(ctx, listen, k, connections, besideSeries, time.Second, false, func(d time.Duration) {
				mu.Lock()
				defer mu.Unlock()
				took = append(took, d.Seconds())
			})
			if err != nil && ctx.Err() == nil {
				failed <- err
			}
		})
	}
	percentile := func() (float64, error) {
		mu.Lock()
		took = took[:0]
		mu.Unlock()
		if err := rest(besideFor, failed); err != nil {
			return 0, err
		}
		mu.Lock()
		defer mu.Unlock()
		if want := besideSeries * besideFor.Seconds(); float64(len(took)) < 0.9*want {
			return 0, fmt.Errorf("%d of %.0f readings were acknowledged", len(took), want)
		}
		return quantile(took, 0.99), nil
	}
	if err := rest(10*time.Second, failed); err != nil {
		return Row{}, err
	}
	var p pairs
	for range 3 {
		asking, stop := context.WithCancel(ctx)
		var asked atomic.Int64
		var clients sync.WaitGroup
		for k := range besideClients {
			clients.Go(func() {
				for n := 0; asking.Err() == nil; n++ {
					call := fmt.Sprintf("/api/v1/windows?select=bench/station-%d/%%2B&last=1h&width=%s&stats=mean,min,max,p95",
						(k*50+n)%400, []string{"10s", "1m", "whole"}[n%3])
					if _, err := fetch(g.address + call); err != nil {
						failed <- fmt.Errorf("a query failed: %w", err)
						return
					}
					asked.Add(1)
				}
			})
		}
		with, err := percentile()
		stop()
		clients.Wait()
		if err != nil {
			return Row{}, err
		}
		without, err := percentile()
		if err != nil {
			return Row{}, err
		}
		fmt.Printf("acks_beside_queries: %d queries beside %.0f readings\n", asked.Load(),
			besideSeries*besideFor.Seconds())
		p.add(with, without)
	}
	return p.row("ms", 1e3, "the same without queries", "<= 2", func(ratio float64) bool { return ratio <= 2 }), nil
}
