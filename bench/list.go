package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"time"

	"nexocumula/client"
	"nexocumula/internal/service"
)

// listMany lists 100,000 series, and their latest values, page by page as the client does, beside encoding the same JSON
// from memory; and how much memory the service takes for it, beside what is listed.
func listMany(dir string) ([]Row, error) {
	const count = 100_000
	st, err := openStore(filepath.Join(dir, service.StoreFile))
	if err != nil {
		return nil, err
	}
	if err := manyWithOne(st, count); err != nil {
		return nil, err
	}
	if err := st.Close(); err != nil {
		return nil, err
	}
	address, stop, err := central(dir)
	if err != nil {
		return nil, err
	}
	ask := client.New(address)
	all, err := ask.Series(context.Background(), "")
	if err != nil {
		return nil, err
	}
	same, err := ask.Now(context.Background(), "")
	if err != nil {
		return nil, err
	}
	if len(all.Series) != count || len(same.Values) != count {
		return nil, fmt.Errorf("%d series and %d values came", len(all.Series), len(same.Values))
	}
	var listed countingWriter
	p, err := inTurn(3, func() error {
		if err := pages(address + "/api/v1/series"); err != nil {
			return err
		}
		return pages(address + "/api/v1/now")
	}, func() error {
		listed = 0
		if err := json.NewEncoder(&listed).Encode(all); err != nil {
			return err
		}
		return json.NewEncoder(&listed).Encode(same)
	})
	if err != nil {
		return nil, err
	}
	more, err := heapOf(func() error { return pages(address + "/api/v1/series") })
	if err != nil {
		return nil, err
	}
	took := p.row("ms", 1e3, "encoding the same JSON from memory", "<= 3", func(ratio float64) bool { return ratio <= 3 })
	took.Name = "list_100000"
	size := float64(listed) / 1e6
	return []Row{took, {
		Name: "list_100000_memory", Unit: "MB", Ours: more / 1e6, Reference: "what is listed, as JSON", ReferenceValue: size,
		Ratio: more / 1e6 / size, Goal: "<= 0.5", Met: more/1e6 <= size/2,
	}}, stop()
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
		url = address + "?after=" + string(path)
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
