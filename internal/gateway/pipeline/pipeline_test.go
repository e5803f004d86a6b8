package pipeline

import (
	"context"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/screen"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
)

const path = series.Path("long-mere/buoy-1/oxygen")

// rig is a pipeline on a store of its own.
type rig struct {
	t     *testing.T
	file  string
	store *store.Store
	clock clock.Clock // time.Now when nil
	tiers []series.Tier
	pipe  *Pipeline
	stop  func()
}

func newRig(t *testing.T, with ...func(*rig)) *rig {
	r := &rig{t: t, file: filepath.Join(t.TempDir(), "s.db")}
	for _, set := range with {
		set(r)
	}
	r.start()
	t.Cleanup(func() { r.stop(); r.store.Close() })
	return r
}

func (r *rig) start() {
	var err error
	r.store, err = store.Open(r.file, slog.New(slog.DiscardHandler), store.Options{Clock: r.clock})
	require.NoError(r.t, err)
	high := 20.0
	everything, err := series.ParseSelector("#")
	require.NoError(r.t, err)
	rules := []config.SeriesRule{{
		Select: everything,
		Definition: series.Definition{
			Kind:     series.Gauge,
			Unit:     "mg/l",
			FreshFor: time.Minute,
			Tiers:    tiersOf(r.t, r.tiers),
		},
		Limits: screen.Limits{High: &high},
	}}
	keep := []config.Keep{{Select: everything, Tier: series.Readings, For: 30 * 24 * time.Hour}}
	settings := config.Gateway{
		Rules: rules,
		Keep:  keep,
		Pace:  config.CommitDelay{Messages: 100 * time.Millisecond, Polls: time.Second},
	}
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
		d.Readings = append(d.Readings, reading.Reading{
			Path:  path,
			Time:  begin.Add(after).UnixNano(),
			Value: v,
			From:  from,
		})
	}
	done := make(chan error, 1)
	d.Done = func(err error) { done <- err }
	r.pipe.Submit(d)
	return <-done
}

func (r *rig) summary(start time.Time) (rollup.Summary, bool) {
	rows, err := r.store.Read(context.Background(), 1, series.Minute, start.UnixNano(), start.UnixNano()+1)
	require.NoError(r.t, err)
	if rows.Len() == 0 {
		return rollup.Summary{}, false
	}
	return rollup.FromRow(rows, 0, series.Gauge), true
}

func (r *rig) eventually(what string, happened func() bool) {
	require.Eventually(r.t, happened, time.Minute, 20*time.Millisecond, what)
}

// virtual runs a test in virtual time, which begins at nine in the morning.
func virtual(t *testing.T, test func(t *testing.T)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		time.Sleep(time.Until(anHourAgo.Add(time.Hour)))
		test(t)
	})
}

var anHourAgo = time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC)

func TestALateReadingRevisesItsWindow(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		require.NoError(t, r.give(map[time.Duration]float64{0: 4, 20 * time.Second: 8}, anHourAgo))
		r.eventually("the window is summarised",
			func() bool { s, ok := r.summary(anHourAgo); return ok && s.Count == 2 })
		require.NoError(t, r.give(map[time.Duration]float64{10 * time.Second: 9, 20 * time.Second: 5}, anHourAgo)) // one late, one corrected
		r.eventually("the window is revised", func() bool {
			s, _ := r.summary(anHourAgo)
			return s.Count == 3 && s.Mean == 6 && s.Max == 9
		})
		assert.EqualValues(t, 4, r.pipe.Accepted())
	})
}

func TestWhatIsOutOfRangeIsKeptAsAReject(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		require.NoError(t, r.give(map[time.Duration]float64{0: 21, time.Second: 7}, anHourAgo))
		assert.EqualValues(t, 1, r.pipe.Accepted())
		assert.EqualValues(t, 1, r.pipe.Rejected())
		kept, err := r.store.Rejects.List(records.Wanting{Source: "own", Most: 10})
		require.NoError(t, err)
		assert.Equal(t, "long-mere/buoy-1/oxygen: value 21 is above the range's high end 20", kept[0].Reason)
		assert.Equal(t, []byte("raw"), kept[0].Raw)
	})
}

func TestReadingsOlderThanWhatIsKeptDoNotSpoilSummaries(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		require.NoError(t, r.give(map[time.Duration]float64{
			-31 * 24 * time.Hour: 5,
			0:                    6,
			-29 * 24 * time.Hour: 7,
		}, anHourAgo))
		assert.EqualValues(t, 2, r.pipe.Accepted())
		kept, err := r.store.Rejects.List(records.Wanting{Source: "own", Most: 10})
		require.NoError(t, err)
		assert.Contains(t, kept[0].Reason, "readings here are not kept that long")
	})
}

func TestASeriesKeepsItsKind(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		_, err := r.store.Define(t.Context(), []series.Definition{{
			Path:     path,
			Kind:     series.Counter,
			FreshFor: time.Minute,
		}})
		require.NoError(t, err)
		require.NoError(t, r.give(map[time.Duration]float64{0: 6}, anHourAgo))
		assert.Zero(t, r.pipe.Accepted())
		kept, err := r.store.Rejects.List(records.Wanting{Source: "own", Most: 10})
		require.NoError(t, err)
		assert.Contains(t, kept[0].Reason, "was recorded as a counter and cannot become a gauge")
	})
}

func TestOpenWindowsSurviveARestart(t *testing.T) {
	for _, sealed := range []bool{false, true} {
		now := time.Date(2026, 3, 1, 8, 0, 20, 0, time.UTC)
		var passed atomic.Int64 // stands still: the window stays open
		r := &rig{
			t:     t,
			file:  filepath.Join(t.TempDir(), "s.db"),
			clock: func() time.Time { return now.Add(time.Duration(passed.Load())) },
		}
		r.start()
		require.NoError(t, r.give(map[time.Duration]float64{0: 3, time.Second: 5}, now.Add(-5*time.Second)))
		if sealed {
			require.NoError(t, r.store.Seal(t.Context(), engine.Sealing{States: []sqlite.State{openWindows(t, r)}}))
		}
		copied := filepath.Join(t.TempDir(), "s.db") // as a power cut leaves it
		for _, part := range []string{"", "-wal", "-watermark"} {
			data, err := os.ReadFile(r.file + part)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(copied+part, data, 0o600))
		}
		r.stop()
		require.NoError(t, r.store.Close())
		r.file = copied
		r.start()
		passed.Store(int64(2 * time.Minute))
		r.eventually("the window that was open is summarised", func() bool {
			passed.Add(int64(time.Second))
			s, ok := r.summary(now.Truncate(time.Minute))
			return ok && s.Count == 2 && s.Mean == 4
		})
		r.stop()
		require.NoError(t, r.store.Close())
	}
}

// openWindows returns the windows that a seal of the pipeline would save.
func openWindows(t *testing.T, r *rig) (out sqlite.State) {
	require.NoError(t, r.pipe.Between(t.Context(), func() error {
		state, err := r.pipe.roller.pending.Save()
		out = sqlite.State{Name: pendingState, Payload: state}
		return err
	}))
	return out
}

func TestALateReadingChangesTheWindowOfTheNextOne(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		at := func(d time.Duration) time.Time { return anHourAgo.Add(d) }
		require.NoError(t, r.give(map[time.Duration]float64{0: 1, 70 * time.Second: 2}, anHourAgo))
		covered := func(start time.Time) float64 {
			s, _ := r.summary(start)
			return s.Covered.Seconds()
		}
		r.eventually("both are summarised", func() bool { return covered(at(time.Minute)) == 50 })
		require.NoError(t, r.give(map[time.Duration]float64{40 * time.Second: 3}, anHourAgo)) // speaks until 70 s
		r.eventually("the next one is covered from its start", func() bool { return covered(at(time.Minute)) == 60 })
	})
}

func TestLateReadingsOfSlowSeriesMarkFewWindows(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		all, err := series.ParseSelector("#")
		require.NoError(t, err)
		r.pipe.Use([]config.SeriesRule{{
			Select: all, Definition: series.Definition{Kind: series.Gauge, FreshFor: 24 * time.Hour},
		}}, nil)
		values := map[time.Duration]float64{}
		for i := range 200 {
			values[time.Duration(i)*time.Minute] = 1
		}
		require.NoError(t, r.give(map[time.Duration]float64{0: 1}, anHourAgo))
		require.NoError(t, r.give(values, anHourAgo.Add(-48*time.Hour)))
		require.NoError(t, r.pipe.Between(t.Context(), func() error {
			assert.Less(t, r.pipe.roller.pending.Len(), 1000)
			return nil
		}))
	})
}

func TestNewRulesCountFromTheNextReadingOn(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		require.NoError(t, r.give(map[time.Duration]float64{0: 7}, anHourAgo))
		low := 8.0
		all, err := series.ParseSelector("#")
		require.NoError(t, err)
		r.pipe.Use([]config.SeriesRule{{
			Select:     all,
			Definition: series.Definition{Kind: series.Gauge, FreshFor: time.Minute},
			Limits:     screen.Limits{Low: &low},
		}}, nil)
		require.NoError(t, r.give(map[time.Duration]float64{time.Second: 7}, anHourAgo))
		assert.EqualValues(t, 1, r.pipe.Accepted())
		assert.EqualValues(t, 1, r.pipe.Rejected())
		r.eventually("the window that was open meanwhile is summarised",
			func() bool { s, ok := r.summary(anHourAgo); return ok && s.Count == 1 })
	})
}

func TestWithAWrongClockNothingIsAcknowledgedAway(t *testing.T) {
	var mu sync.Mutex
	now := anHourAgo
	set := func(to time.Time) { mu.Lock(); now = to; mu.Unlock() }
	r := &rig{
		t:     t,
		file:  filepath.Join(t.TempDir(), "s.db"),
		clock: func() time.Time { mu.Lock(); defer mu.Unlock(); return now },
	}
	r.start()
	t.Cleanup(func() { r.stop(); r.store.Close() })
	everything, err := series.ParseSelector("#")
	require.NoError(t, err)
	r.pipe.Use(nil, []config.Keep{{Select: everything, Tier: series.Readings, For: 30 * 24 * time.Hour}})
	require.NoError(t, r.give(map[time.Duration]float64{0: 1}, anHourAgo))
	for _, wrong := range []time.Time{time.Unix(100, 0), anHourAgo.Add(80 * 365 * 24 * time.Hour)} {
		set(wrong)
		arrived := make(chan int64, 1)
		go func() {
			at, err := r.pipe.Arrive()
			assert.NoError(t, err)
			arrived <- at
		}()
		acked := make(chan error, 1)
		go func() { acked <- r.give(map[time.Duration]float64{time.Second: 2}, anHourAgo) }() // stamped by the device
		select {
		case <-acked:
			assert.Fail(t, "a right reading was answered while the clock was wrong")
		case <-time.After(100 * time.Millisecond):
		}
		select {
		case <-arrived:
			assert.Fail(t, "something was stamped with a wrong clock")
		default:
		}
		set(anHourAgo.Add(time.Minute))
		assert.Less(t, <-arrived, anHourAgo.Add(2*time.Minute).UnixNano(), "arrival follows the corrected clock")
		require.NoError(t, <-acked)
	}
	assert.Zero(t, r.pipe.Rejected())
	assert.EqualValues(t, 3, r.pipe.Accepted())
}

func TestAFullGatewayKnowsItsOwnSeriesAfterARestart(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		require.NoError(t, r.give(map[time.Duration]float64{0: 7}, anHourAgo))
		r.stop()
		require.NoError(t, r.store.Close())
		r.start()
		r.pipe.mostSeries = 1
		require.NoError(t, r.give(map[time.Duration]float64{time.Second: 7}, anHourAgo))
		assert.EqualValues(t, 1, r.pipe.Accepted())
		d := &Delivery{Readings: []reading.Reading{{
			Path:  "long-mere/buoy-2/oxygen",
			Time:  anHourAgo.UnixNano(),
			Value: 7,
			From:  &reading.Origin{Source: "own"},
		}}}
		done := make(chan error, 1)
		d.Done = func(err error) { done <- err }
		r.pipe.Submit(d)
		require.NoError(t, <-done)
		kept, err := r.store.Rejects.List(records.Wanting{Source: "own", Most: 1})
		require.NoError(t, err)
		require.Len(t, kept, 1)
		assert.Contains(t, kept[0].Reason, "it would be a new series, and this gateway keeps")
	})
}

func TestTimesOfArrivalNeverRepeatAndFollowTheClock(t *testing.T) {
	var a arrival
	now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	before := int64(0)
	for range 1000 {
		at := a.next(now)
		assert.Greater(t, at, before)
		before = at
	}
	assert.Equal(t, now.Add(-time.Hour).UnixNano(), a.next(now.Add(-time.Hour)))
}

func TestStoppingDoesNotWaitForADiskThatIsGone(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		require.NoError(t, r.give(map[time.Duration]float64{0: 3}, anHourAgo))
		require.NoError(t, r.store.Close())
		var senders sync.WaitGroup
		for range mostInInbox + 100 { // more than there is room for
			senders.Go(func() { assert.Error(t, r.give(map[time.Duration]float64{time.Second: 4}, anHourAgo)) })
		}
		r.eventually("the trouble is seen", func() bool { return r.pipe.Trouble() != "" })
		r.pipe.GiveUp()
		r.stop()
		senders.Wait()
	})
}

func TestWhileTheStoreFailsSendersWaitAndNothingIsAcknowledged(t *testing.T) {
	virtual(t, func(t *testing.T) {
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
	})
}

func TestManySendersShareACommit(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		commits := r.store.Commits()
		var wait sync.WaitGroup
		for i := range 50 {
			wait.Go(func() {
				for k := range 20 {
					assert.NoError(t,
						r.give(map[time.Duration]float64{time.Duration(i*20+k) * time.Millisecond: 5}, anHourAgo))
				}
			})
		}
		wait.Wait()
		assert.Less(t, r.store.Commits()-commits, uint64(250), "a thousand messages")
		rows, err := r.store.Read(context.Background(), 1, series.Readings, 0, 1<<62)
		require.NoError(t, err)
		assert.Equal(t, 1000, rows.Len())
	})
}

func TestWhatMessagesSayOfASeriesBecomesItsLabels(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		give := func(labels series.Labels) series.Labels {
			done := make(chan error, 1)
			at, err := r.pipe.Arrive()
			require.NoError(t, err)
			r.pipe.Submit(&Delivery{
				Readings: []reading.Reading{{Path: path, Labels: labels, Time: at, Value: 5, From: &reading.Origin{}}},
				Done:     func(err error) { done <- err },
			})
			require.NoError(t, <-done)
			s, ok := r.store.Find(path)
			require.True(t, ok)
			return s.Labels
		}
		assert.EqualValues(t, "make=vega", give("make=vega"))
		assert.EqualValues(t, "make=vega", give(""), "who says nothing takes nothing back")
		assert.EqualValues(t, "make=vega", give("make=other"),
			"two that contradict each other do not write the catalogue each time")
		loaded, _ := r.pipe.rules.Load().members.Load(path)
		m := loaded.(*member)
		m.said.Store(&said{m.said.Load().labels, time.Now().Add(-saidFor)})
		assert.EqualValues(t, "make=other", give("make=other"))

		everything, err := series.ParseSelector("#")
		require.NoError(t, err)
		r.pipe.Use([]config.SeriesRule{{
			Select: everything, Definition: series.Definition{Kind: series.Gauge, Labels: "make=ours,owner=us"},
		}}, nil)
		assert.EqualValues(t, "bay=3,make=ours,owner=us", give("bay=3,make=other"), "the rule comes first")
	})
}
