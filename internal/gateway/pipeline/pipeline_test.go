package pipeline

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
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

const path = series.Path("long-mere/buoy-1/oxygen")

// rig is a pipeline on a store of its own.
type rig struct {
	t     *testing.T
	file  string
	store *store.Store
	pipe  *Pipeline
	stop  func()
}

func newRig(t *testing.T) *rig {
	r := &rig{t: t, file: filepath.Join(t.TempDir(), "s.db")}
	r.start()
	t.Cleanup(func() { r.stop(); r.store.Close() })
	return r
}

func (r *rig) start() {
	var err error
	r.store, err = store.Open(r.file, slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(r.t, err)
	high := 20.0
	everything, err := series.ParseSelector("#")
	require.NoError(r.t, err)
	rules := []config.Rule{{Select: everything, Kind: series.Gauge, Unit: "mg/l", FreshFor: time.Minute, Limits: screen.Limits{High: &high}}}
	keep := []config.Keep{{Select: everything, Tier: rollup.Readings, For: 30 * 24 * time.Hour}}
	settings := config.Gateway{Rules: rules, Keep: keep, Tiers: rollup.Tiers, Pace: config.Pace{Messages: 100 * time.Millisecond, Polls: time.Second}}
	r.pipe, err = New(r.store, settings, slog.New(slog.DiscardHandler))
	require.NoError(r.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- r.pipe.Run(ctx) }()
	r.stop = sync.OnceFunc(func() {
		cancel()
		assert.NoError(r.t, <-done)
	})
}

// give submits readings and waits until they are on disk.
func (r *rig) give(values map[time.Duration]float64, begin time.Time) error {
	d := &Delivery{}
	for after, v := range values {
		from := &reading.Origin{Source: "own", Place: "p", Raw: []byte("raw")}
		d.Readings = append(d.Readings, reading.Reading{Path: path, Time: begin.Add(after).UnixNano(), Value: v, From: from})
	}
	done := make(chan error, 1)
	d.Done = func(err error) { done <- err }
	r.pipe.Submit(d)
	return <-done
}

func (r *rig) summary(start time.Time) (rollup.Summary, bool) {
	rows, err := r.store.Read(1, rollup.Minute, start.UnixNano(), start.UnixNano()+1)
	require.NoError(r.t, err)
	if rows.Len() == 0 {
		return rollup.Summary{}, false
	}
	return rollup.FromRow(rows, 0, series.Gauge), true
}

func (r *rig) eventually(what string, happened func() bool) {
	require.Eventually(r.t, happened, time.Minute, 20*time.Millisecond, what)
}

var anHourAgo = time.Now().Add(-time.Hour).Truncate(time.Minute)

func TestALateReadingRevisesItsWindow(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.give(map[time.Duration]float64{0: 4, 20 * time.Second: 8}, anHourAgo))
	r.eventually("the window is summarised", func() bool { s, ok := r.summary(anHourAgo); return ok && s.Count == 2 })
	require.NoError(t, r.give(map[time.Duration]float64{10 * time.Second: 9, 20 * time.Second: 5}, anHourAgo)) // one late, one corrected
	r.eventually("the window is revised", func() bool { s, _ := r.summary(anHourAgo); return s.Count == 3 && s.Mean == 6 && s.Max == 9 })
	assert.EqualValues(t, 4, r.pipe.Accepted())
}

func TestWhatIsOutOfRangeIsKeptAsAReject(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.give(map[time.Duration]float64{0: 21, time.Second: 7}, anHourAgo))
	assert.EqualValues(t, 1, r.pipe.Accepted())
	assert.EqualValues(t, 1, r.pipe.Rejected())
	kept, err := r.store.Rejects("own", 10)
	require.NoError(t, err)
	assert.Equal(t, "long-mere/buoy-1/oxygen: value 21 is above the range's high end 20", kept[0].Reason)
	assert.Equal(t, []byte("raw"), kept[0].Raw)
}

func TestReadingsOlderThanWhatIsKeptDoNotSpoilSummaries(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.give(map[time.Duration]float64{-31 * 24 * time.Hour: 5, 0: 6, -29 * 24 * time.Hour: 7}, anHourAgo))
	assert.EqualValues(t, 2, r.pipe.Accepted())
	kept, err := r.store.Rejects("own", 10)
	require.NoError(t, err)
	assert.Contains(t, kept[0].Reason, "readings here are not kept that long")
}

func TestASeriesKeepsItsKind(t *testing.T) {
	r := newRig(t)
	_, err := r.store.Define([]series.Definition{{Path: path, Kind: series.Counter, FreshFor: time.Minute}})
	require.NoError(t, err)
	require.NoError(t, r.give(map[time.Duration]float64{0: 6}, anHourAgo))
	assert.Zero(t, r.pipe.Accepted())
	kept, err := r.store.Rejects("own", 10)
	require.NoError(t, err)
	assert.Contains(t, kept[0].Reason, "was recorded as a counter and cannot become a gauge")
}

func TestOpenWindowsSurviveARestart(t *testing.T) {
	for _, sealed := range []bool{false, true} {
		r := newRig(t)
		now := time.Now().Truncate(time.Minute)
		require.NoError(t, r.give(map[time.Duration]float64{0: 3}, now))
		if sealed {
			require.NoError(t, r.pipe.Between(t.Context(), func() error { r.pipe.seal(); return nil }))
		}
		_, ok := r.summary(now)
		if ok {
			continue // the minute was over that fast
		}
		r.stop() // seals as well, and notes the open window
		require.NoError(t, r.store.Close())
		r.start()
		assert.Positive(t, r.pipe.pending.Len(), "the open window is known after a restart")
	}
}

func TestWhileTheStoreFailsSendersWaitAndNothingIsAcknowledged(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.give(map[time.Duration]float64{0: 3}, anHourAgo))
	require.NoError(t, r.store.Close()) // as good as a disk that is gone
	done := make(chan error, 1)
	go func() { done <- r.give(map[time.Duration]float64{time.Second: 4}, anHourAgo) }()
	r.eventually("the trouble is told", func() bool { return r.pipe.Trouble() != "" })
	select {
	case err := <-done:
		assert.Fail(t, "acknowledged", "%v", err)
	default:
	}
	r.stop()
	assert.Error(t, <-done, "at the end the sender learns that it was not stored")
	assert.ErrorIs(t, r.give(map[time.Duration]float64{time.Second: 4}, anHourAgo), ErrStopped)
}

func TestManySendersShareACommit(t *testing.T) {
	r := newRig(t)
	var wait sync.WaitGroup
	for i := range 50 {
		wait.Go(func() {
			for k := range 20 {
				assert.NoError(t, r.give(map[time.Duration]float64{time.Duration(i*20+k) * time.Millisecond: 5}, anHourAgo))
			}
		})
	}
	wait.Wait()
	rows, err := r.store.Read(1, rollup.Readings, 0, 1<<62)
	require.NoError(t, err)
	assert.Equal(t, 1000, rows.Len())
}
