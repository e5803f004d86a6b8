package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/kinds"
	"nexocumula/internal/secret"
	"nexocumula/internal/service"
)

const benchPassword = "four words of trout"

// guarded is a central at which everybody has to log in, with an administrator's session.
func guarded(dir string) (address, bearer string, stop func() error, err error) {
	settings, err := config.Parse("central.yaml", []byte(centralFile+"access: { login: required }\n"), kinds.All)
	if err != nil {
		return "", "", nil, err
	}
	settings.Data = dir
	s, err := service.Open(settings, "bench", slog.New(slog.DiscardHandler))
	if err != nil {
		return "", "", nil, err
	}
	code, err := s.FirstCode()
	if err != nil {
		return "", "", nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	stop = func() error { cancel(); return <-ended }
	c := client.New(s.Address)
	if _, err = c.Redeem(ctx, client.Redeem{Code: code, Account: "bench", Password: benchPassword}); err != nil {
		return "", "", stop, err
	}
	begun, err := c.Login(ctx, client.Login{Account: "bench", Password: benchPassword, By: "command line"})
	return s.Address, begun.Secret, stop, err
}

// loginCost returns how long a login takes, beside hashing the password alone; and how much memory
// many at the same time take.
func loginCost(dir string) ([]Row, error) {
	address, _, stop, err := guarded(dir)
	if err != nil {
		return nil, err
	}
	c := client.New(address)
	login := func() error {
		_, err := c.Login(context.Background(), client.Login{
			Account:  "bench",
			Password: benchPassword,
			By:       "command line",
		})
		return err
	}
	salt := make([]byte, 16)
	p, err := inTurn(9, login, func() error {
		argon2.IDKey([]byte(benchPassword), salt, secret.OfPeople.Passes, secret.OfPeople.Memory, 1, 32)
		return nil
	})
	if err != nil {
		return nil, err
	}
	cost := p.row("ms", 1e3, "argon2id alone", "50 to 500 ms", known)
	cost.Name, cost.Met = "login_cost", cost.Ours >= 50 && cost.Ours <= 500
	most, err := heapWhile(func() error {
		var all sync.WaitGroup
		failed := make(chan error, parallelLogins)
		for range parallelLogins {
			all.Go(func() {
				if err := login(); err != nil {
					failed <- err
				}
			})
		}
		all.Wait()
		close(failed)
		return <-failed
	})
	if err != nil {
		return nil, err
	}
	one := float64(secret.OfPeople.Memory) / 1024
	memory := Row{
		Name: "login_memory", Unit: "MB", Ours: most / (1 << 20), Reference: "one hash at a time", ReferenceValue: one,
		Goal: fmt.Sprintf("<= 64 MB, while %d log in", parallelLogins),
	}
	memory.Ratio = memory.Ours / memory.ReferenceValue
	memory.Met = memory.Ours <= 64
	return []Row{cost, memory}, stop()
}

const parallelLogins = 30

// heapWhile returns the most that the heap grew while something was done.
func heapWhile(do func() error) (most float64, err error) {
	runtime.GC()
	var before, now runtime.MemStats
	runtime.ReadMemStats(&before)
	over := make(chan struct{})
	var watched sync.WaitGroup
	watched.Go(func() {
		tick := time.NewTicker(2 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				runtime.ReadMemStats(&now)
				most = max(most, float64(now.HeapInuse)-float64(before.HeapInuse))
			case <-over:
				return
			}
		}
	})
	err = do()
	close(over)
	watched.Wait()
	return most, err
}

// requestOverhead returns the cost of authentication for a request of the latest values of 100 series.
func requestOverhead(dir string) (Row, error) {
	for _, name := range []string{"guarded", "plain"} {
		st, err := openStore(filepath.Join(dir, name, service.StoreFile))
		if err != nil {
			return Row{}, err
		}
		if err := manyWithOne(st, 100); err != nil {
			return Row{}, err
		}
		if err := st.Close(); err != nil {
			return Row{}, err
		}
	}
	address, bearer, stop, err := guarded(filepath.Join(dir, "guarded"))
	if err != nil {
		return Row{}, err
	}
	plain, stopPlain, err := central(filepath.Join(dir, "plain"))
	if err != nil {
		return Row{}, err
	}
	many := func(address, bearer string) func() error {
		return func() error {
			for range 100 {
				if err := fetchAs(address+"/api/v1/now", bearer); err != nil {
					return err
				}
			}
			return nil
		}
	}
	p, err := inTurn(15, many(address, bearer), many(plain, ""))
	if err != nil {
		return Row{}, err
	}
	row := p.row("ms per 100", 1e3, "the same where nobody logs in", "<= 1.05",
		func(ratio float64) bool { return ratio <= 1.05 })
	if err := stop(); err != nil {
		return row, err
	}
	return row, stopPlain()
}

func fetchAs(url, bearer string) error {
	req, err := http.NewRequest(http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	if bearer != "" {
		req.Header.Set("Authorization", "Bearer "+bearer)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if _, err := io.Copy(io.Discard, resp.Body); err != nil {
		return err
	}
	if resp.StatusCode != http.StatusOK {
		return fmt.Errorf("%s answered %d", url, resp.StatusCode)
	}
	return nil
}
