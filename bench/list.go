package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"time"

	"nexocumula/client"
	"nexocumula/internal/service"
)

// listMany lists series, and their latest values, page by page as the client does, beside encoding the same JSON from
// memory.
func listMany(dir string, count int) (Row, error) {
	address, stop, err := centralWith(dir, count)
	if err != nil {
		return Row{}, err
	}
	all, same, err := listed(address, count)
	if err != nil {
		return Row{}, err
	}
	p, err := inTurn(3, func() error {
		if err := pages(address + "/api/v1/series"); err != nil {
			return err
		}
		return pages(address + "/api/v1/now")
	}, func() error {
		if err := json.NewEncoder(io.Discard).Encode(all); err != nil {
			return err
		}
		return json.NewEncoder(io.Discard).Encode(same)
	})
	if err != nil {
		return Row{}, err
	}
	return p.row("ms", 1e3, "encoding the same JSON from memory", "<= 3", func(ratio float64) bool { return ratio <= 3 }), stop()
}

// listMemory returns how much memory a service takes to list 100,000 series, beside what is listed.
func listMemory(dir string) (Row, error) {
	const count = 100_000
	address, stop, err := centralWith(dir, count)
	if err != nil {
		return Row{}, err
	}
	all, _, err := listed(address, count)
	if err != nil {
		return Row{}, err
	}
	var bytes countingWriter
	if err := json.NewEncoder(&bytes).Encode(all); err != nil {
		return Row{}, err
	}
	all = client.SeriesList{}
	more, err := heapOf(func() error { return pages(address + "/api/v1/series") })
	if err != nil {
		return Row{}, err
	}
	ratio := more / float64(bytes)
	return Row{
		Unit: "MB", Ours: more / 1e6, Reference: "what is listed, as JSON", ReferenceValue: float64(bytes) / 1e6,
		Ratio: ratio, Goal: "<= 0.5", Met: ratio <= 0.5,
	}, stop()
}

// centralWith runs a central with series that have a value each.
func centralWith(dir string, count int) (address string, stop func() error, err error) {
	st, err := openStore(filepath.Join(dir, service.StoreFile))
	if err != nil {
		return "", nil, err
	}
	if err := manyWithOne(st, count); err != nil {
		return "", nil, err
	}
	if err := st.Close(); err != nil {
		return "", nil, err
	}
	return central(dir)
}

// listed returns what the client gets of all series.
func listed(address string, count int) (all client.SeriesList, same client.Now, err error) {
	ask := client.New(address)
	if all, err = ask.Series(context.Background(), ""); err != nil {
		return all, same, err
	}
	if same, err = ask.Now(context.Background(), ""); err == nil && (len(all.Series) != count || len(same.Values) != count) {
		err = fmt.Errorf("%d series and %d values came", len(all.Series), len(same.Values))
	}
	return all, same, err
}

type countingWriter int

func (w *countingWriter) Write(b []byte) (int, error) {
	*w += countingWriter(len(b))
	return len(b), nil
}

// pages reads all pages of a list, and keeps none.
func pages(address string) error {
	var page bytes.Buffer
	for url := address; ; {
		body, err := fetchBody(url)
		if err != nil {
			return err
		}
		page.Reset()
		_, err = page.ReadFrom(body)
		body.Close()
		_, next, found := bytes.Cut(page.Bytes()[max(0, page.Len()-200):], []byte(`"next":"`))
		if err != nil || !found {
			return err
		}
		path, _, _ := bytes.Cut(next, []byte(`"`))
		url = address + "?cursor=" + string(path)
	}
}

// heapOf returns by how much the heap grows at most while something is done, when little garbage is left to come
// together.
func heapOf(do func() error) (bytes float64, err error) {
	defer debug.SetGCPercent(debug.SetGCPercent(5))
	runtime.GC()
	var before, now runtime.MemStats
	runtime.ReadMemStats(&before)
	most := before.HeapAlloc
	done := make(chan error)
	go func() { done <- do() }()
	for {
		select {
		case err := <-done:
			return float64(most - before.HeapAlloc), err
		case <-time.After(2 * time.Millisecond):
			runtime.ReadMemStats(&now)
			most = max(most, now.HeapAlloc)
		}
	}
}
