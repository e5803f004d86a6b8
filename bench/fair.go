package main

import (
	"context"
	"fmt"
	"net/url"
	"sync"
	"sync/atomic"
	"time"
)

const (
	fairSeries = 4000
	fairFor    = 8 * time.Second
	fairHeavy  = 4 // clients that ask for much
	fairMixed  = 64
)

// fairLastHour returns how long a query of the last hour of a series takes, at the 99th percentile, beside
// four clients that ask for percentiles over 4,000 series, against how long it takes alone. The second row is
// the throughput of 64 clients that ask both, against the same queries one after another.
func fairLastHour(dir string) ([]Row, error) {
	paths := make([]string, fairSeries)
	for i := range paths {
		paths[i] = fmt.Sprintf("bench/site-%02d/station-%04d/value", i/100, i%100)
	}
	if err := dayOfMinutes(dir, paths); err != nil {
		return nil, err
	}
	address, stop, err := central(dir)
	if err != nil {
		return nil, err
	}
	defer stop()
	light := func(n int) string {
		return address + "/api/v1/windows?select=" + url.QueryEscape(paths[n*37%len(paths)]) +
			"&from=2026-03-02T22:00:00Z&to=2026-03-02T23:00:00Z&width=1m&stats=mean,min,max"
	}
	heavy := address + "/api/v1/windows?select=bench/%23&width=15m&from=2026-03-02&to=2026-03-03&stats=mean,max&across=p90&by=level:2"
	p99 := func() (float64, error) {
		var took []float64
		for begun, n := time.Now(), 0; time.Since(begun) < fairFor; n++ {
			asked := time.Now()
			if _, err := fetch(light(n)); err != nil {
				return 0, err
			}
			took = append(took, time.Since(asked).Seconds())
			time.Sleep(5 * time.Millisecond)
		}
		return quantile(took, 0.99), nil
	}
	var p pairs
	for range 3 {
		alone, err := p99()
		if err != nil {
			return nil, err
		}
		asking, end := context.WithCancel(context.Background())
		var clients sync.WaitGroup
		var failed error
		var once sync.Once
		for range fairHeavy {
			clients.Go(func() {
				for asking.Err() == nil {
					if _, err := fetch(heavy); err != nil {
						once.Do(func() { failed = err })
						return
					}
				}
			})
		}
		time.Sleep(500 * time.Millisecond)
		beside, err := p99()
		end()
		clients.Wait()
		if err != nil || failed != nil {
			return nil, fmt.Errorf("a query failed: %w, %w", err, failed)
		}
		p.add(beside, alone)
	}
	last := p.row("ms", 1e3, "beside nobody", "<= 5", func(ratio float64) bool { return ratio <= 5 })
	last.Name = "fair_last_hour"
	mixed, err := fairThroughput(light, heavy)
	return []Row{last, mixed}, err
}

// fairThroughput asks the same queries from 64 clients and from one.
func fairThroughput(light func(n int) string, heavy string) (Row, error) {
	const queries, heavyEvery = 640, 64
	from := func(clients int) (float64, error) {
		var next atomic.Int64
		var all sync.WaitGroup
		failed := make(chan error, clients)
		begun := time.Now()
		for range clients {
			all.Go(func() {
				for n := int(next.Add(1)); n <= queries; n = int(next.Add(1)) {
					call := light(n)
					if n%heavyEvery == 0 {
						call = heavy
					}
					if _, err := fetch(call); err != nil {
						failed <- err
						return
					}
				}
			})
		}
		all.Wait()
		select {
		case err := <-failed:
			return 0, err
		default:
			return queries / time.Since(begun).Seconds(), nil
		}
	}
	var p pairs
	for range 3 {
		one, err := from(1)
		if err != nil {
			return Row{}, err
		}
		many, err := from(fairMixed)
		if err != nil {
			return Row{}, err
		}
		p.add(many, one)
	}
	row := p.row("queries/s", 1, "one after another", ">= 0.8", func(ratio float64) bool { return ratio >= 0.8 })
	row.Name = "fair_throughput"
	return row, nil
}
