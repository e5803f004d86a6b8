package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"
)

const (
	besideSeries  = 4000 // one reading a second each
	besideClients = 8
	besideFor     = 12 * time.Second
)

// work is what goes on beside readings, until ctx ends; it returns how often it was done.
type work func(ctx context.Context, g *process) (done int64, err error)

// acksBeside returns how long senders wait for acknowledgements of 4,000 readings a second, at the
// 99th percentile, beside some work, and beside how long it is without. The gateway has a day of summaries of so many
// series to begin with.
func acksBeside(dir, name, words string, begins int, beside work) (Row, error) {
	if begins > 0 {
		if err := dayOfMinutes(filepath.Join(dir, "g"), many(begins)); err != nil {
			return Row{}, err
		}
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
		working, stop := context.WithCancel(ctx)
		var done int64
		var worked sync.WaitGroup
		worked.Go(func() {
			var err error
			if done, err = beside(working, g); err != nil && working.Err() == nil {
				failed <- fmt.Errorf("%s: %w", words, err)
			}
		})
		with, err := percentile()
		stop()
		worked.Wait()
		if err != nil {
			return Row{}, err
		}
		without, err := percentile()
		if err != nil {
			return Row{}, err
		}
		fmt.Printf("%s: %d times beside %.0f readings\n", name, done, besideSeries*besideFor.Seconds())
		p.add(with, without)
	}
	return p.row("ms", 1e3, "the same without "+words, "<= 2", func(ratio float64) bool { return ratio <= 2 }), nil
}

// acksBesideQueries has eight clients ask without a pause.
func acksBesideQueries(dir string) (Row, error) {
	return acksBeside(dir, "acks_beside_queries", "queries", 0, func(ctx context.Context, g *process) (int64, error) {
		var asked atomic.Int64
		group, ctx := errgroup.WithContext(ctx)
		for k := range besideClients {
			group.Go(func() error {
				for n := 0; ctx.Err() == nil; n++ {
					call := fmt.Sprintf("/api/v1/windows?select=bench/station-%d/%%2B&last=1h&width=%s&stats=mean,min,max,p95",
						(k*50+n)%400, []string{"10s", "1m", "whole"}[n%3])
					if _, err := fetch(g.address + call); err != nil {
						return err
					}
					asked.Add(1)
				}
				return nil
			})
		}
		err := group.Wait()
		return asked.Load(), err
	})
}

// besideStored is how many series have a day of summaries in a store that is looked through or copied beside readings.
const besideStored = 1000

// acksBesideVerify looks through the store without a pause.
func acksBesideVerify(dir string) (Row, error) {
	return acksBeside(dir, "acks_beside_verify", "verifying", besideStored, func(ctx context.Context, _ *process) (done int64, err error) {
		for ; ctx.Err() == nil && err == nil; done++ {
			err = command(ctx, "verify", "--config", filepath.Join(dir, "gateway.yaml"))
		}
		return done, err
	})
}

// acksBesideBackup copies the store without a pause, each time into another folder.
func acksBesideBackup(dir string) (Row, error) {
	return acksBeside(dir, "acks_beside_backup", "backups", besideStored, func(ctx context.Context, _ *process) (done int64, err error) {
		for ; ctx.Err() == nil && err == nil; done++ {
			to := filepath.Join(dir, fmt.Sprint("copy-", time.Now().UnixNano()))
			err = command(ctx, "backup", "--config", filepath.Join(dir, "gateway.yaml"), "--rate", "20", to)
			_ = os.RemoveAll(to)
		}
		return done, err
	})
}

// command runs a command of the program.
func command(ctx context.Context, arguments ...string) error {
	out, err := exec.CommandContext(ctx, binary(), arguments...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", arguments[0], err, out)
	}
	return nil
}
