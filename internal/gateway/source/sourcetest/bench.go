// Package sourcetest is what the tests of all sources need.
package sourcetest

import (
	"context"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/store"
	"nexocumula/internal/store/records"
)

// Bench is a pipeline on a store of its own, for sources to speak to.
type Bench struct {
	t     *testing.T
	Store *store.Store
	Pipe  *pipeline.Pipeline
}

// New makes one for a test.
func New(t *testing.T) *Bench {
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	pipe, err := pipeline.New(st,
		config.Gateway{Pace: config.CommitDelay{Messages: 20 * time.Millisecond, Polls: 20 * time.Millisecond}},
		slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	b := &Bench{t, st, pipe}
	t.Cleanup(func() { assert.NoError(t, st.Close()) })
	b.Run(pipe.Run) // it ends before the store is closed
	return b
}

// Run runs something until the test ends.
func (b *Bench) Run(run func(context.Context) error) { b.Begin(run) }

// Begin runs something until end is called, or the test ends.
func (b *Bench) Begin(run func(context.Context) error) (end func()) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- run(ctx) }()
	end = sync.OnceFunc(func() {
		cancel()
		assert.NoError(b.t, <-done)
	})
	b.t.Cleanup(end)
	return end
}

// Rejects returns the rejects on disk, newest first.
func (b *Bench) Rejects() []reading.Reject {
	all, err := b.Store.Rejects.List(records.Wanting{Most: 100})
	require.NoError(b.t, err)
	return all
}

// Eventually waits for something to happen.
func (b *Bench) Eventually(what string, happened func() bool) {
	require.Eventually(b.t, happened, time.Minute, 5*time.Millisecond, what)
}
