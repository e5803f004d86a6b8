package service

import (
	"context"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/kinds"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

const settingsFile = `data: DIR
listen: 127.0.0.1:0
keep:
  - { select: a/+/short, tier: readings, for: 2d }
  - { select: "#", tier: readings, for: 400d }
central:
  accept: []
`

func TestRowsGoWhenTheirTimeIsOverAndQueriesGoOn(t *testing.T) {
	dir := t.TempDir()
	settings, err := config.Parse("s.yaml", []byte(settingsFile), kinds.All)
	require.NoError(t, err)
	settings.Data = filepath.Join(dir, "data")
	before, err := store.Open(filepath.Join(settings.Data, StoreFile), slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	ids, err := before.Define(t.Context(), []series.Definition{
		{
			Path:     "a/b/short",
			Kind:     series.Gauge,
			FreshFor: time.Minute,
		}, {Path: "a/b/long", Kind: series.Gauge, FreshFor: time.Minute},
	})
	require.NoError(t, err)
	rows := column.New(1, 0)
	now := time.Now()
	for i := 20_000; i > 0; i-- { // fourteen days, a minute apart
		rows.Add(now.Add(-time.Duration(i)*time.Minute).UnixNano(), 1)
	}
	require.NoError(t,
		before.Append(t.Context(),
			engine.Batch{Entries: []engine.Entry{{Series: ids[0], Rows: rows}, {Series: ids[1], Rows: rows}}}))
	require.NoError(t, before.Seal(t.Context(), engine.Sealing{}))
	require.NoError(t, before.Close())

	s, err := Open(settings, "test", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	stopped := make(chan error, 1)
	go func() { stopped <- s.Run(ctx) }()
	left := func(id uint32) int {
		got, err := s.Store.Read(t.Context(), id, series.Readings, 0, 1<<62)
		require.NoError(t, err)
		return got.Len()
	}
	require.Eventually(t, func() bool {
		return s.dropped.Load() > 0 && left(ids[0]) == 20_000-int(s.dropped.Load())
	}, time.Minute, 10*time.Millisecond)
	assert.GreaterOrEqual(t, left(ids[0]), 2*24*60, "nothing goes before its time")
	assert.Less(t, left(ids[0]), 13_000, "no more than the chunk in which the two days begin")
	assert.Equal(t, 20_000, left(ids[1]))
	stop()
	require.NoError(t, <-stopped)
}
