package pipeline

import (
	"fmt"
	"math/rand/v2"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/query"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store/engine"
)

// asked keeps the counts and sums of windows.
type asked struct{ counts, sums []float64 }

func (a *asked) Head(query.Head) error { return nil }

func (a *asked) Series(s query.SeriesRows) error {
	a.counts, a.sums = s.Rows.Stats[0], s.Rows.Stats[1]
	return nil
}

// agrees asks for windows of several widths and compares them with all readings that were acknowledged.
func (r *rig) agrees(model map[int64]float64, from, to time.Time, after string) {
	stats, err := window.ParseStats("count,sum")
	require.NoError(r.t, err)
	for _, width := range []string{"10s", "1m", "25m", "1h"} {
		step, err := window.ParseStep(width)
		require.NoError(r.t, err)
		ask := query.Windows{
			Select: []series.Selector{selector(r.t, "#")},
			Range:  window.Range{From: from, To: to, Exact: true},
			Grid:   window.Grid{Width: step},
			Stats:  stats,
		}
		var got asked
		require.NoError(r.t, ask.Run(r.t.Context(), query.Source{
			Store: r.store, Limits: config.Queries{MaxRows: 1e6, MaxSeries: 5, MaxTime: time.Minute},
		}, &got))
		first := from.UnixNano() - from.UnixNano()%step.Fixed.Nanoseconds()
		counts, sums := make([]float64, len(got.counts)), make([]float64, len(got.counts))
		for at, v := range model {
			i := (at - first) / step.Fixed.Nanoseconds()
			counts[i]++
			sums[i] += v
		}
		require.Equal(r.t, counts, got.counts, "readings in windows of %s, %s", width, after)
		for i, v := range got.sums {
			if counts[i] > 0 {
				require.InDelta(r.t, sums[i], v, 1e-6, "sum of window %d of %s, %s", i, width, after)
			}
		}
	}
}

func TestAnAnswerCountsWhatWasAcknowledgedWhateverIsSummarised(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		random := rand.New(rand.NewPCG(7, 8))
		model := map[int64]float64{}
		begin := time.Now().Add(-30 * time.Hour).Truncate(time.Hour)
		for round := range rounds.Of(40) {
			at, values := time.Duration(random.Int64N(int64(24*time.Hour))), map[time.Duration]float64{}
			for range 1 + random.IntN(30) { // near one another, or corrected
				after := at + time.Duration(random.Int64N(int64(3*time.Minute)))
				if random.IntN(4) == 0 {
					after = after.Truncate(10 * time.Second)
				}
				values[after] = random.Float64() * 20
				model[begin.Add(after).UnixNano()] = values[after]
			}
			require.NoError(t, r.give(values, begin))
			r.agrees(model, begin, begin.Add(25*time.Hour), "at once")
			switch random.IntN(7) {
			case 0:
				r.rest()
			case 1:
				r.again()
			case 2: // other tiers are made, and taken, while readings come
				r.tiers = [][]series.Tier{
					nil, {series.TenSecond, series.Minute, hour}, {series.TenSecond, hour}, {series.Minute},
				}[random.IntN(4)]
				r.pipe.Use([]config.SeriesRule{everything(t, r.tiers...)}, nil)
			default:
				time.Sleep(time.Duration(random.IntN(1200)) * time.Millisecond)
			}
			r.agrees(model, begin, begin.Add(25*time.Hour), "a moment later")
			if round%10 == 9 {
				require.NoError(t, r.pipe.Between(t.Context(), func() error { <-r.pipe.sealNowHeld(); return nil }))
			}
		}
		r.eventually("all tiers are made", func() bool { return !r.pipe.newRules.Load() && r.pipe.Filling() == 0 })
		r.rest()
		assert.Empty(t, r.store.LateSeries(), "when all is summarised, summaries answer again")
		known, _ := r.store.Get(1)
		for _, tier := range known.Tiers.All() {
			assert.NotZero(t, r.asFromReadings(tier))
		}
		r.agrees(model, begin, begin.Add(25*time.Hour), "at the end")
	})
}

// again is the same gateway after a stop.
func (r *rig) again() {
	r.stop()
	require.NoError(r.t, r.store.Close())
	r.start()
}

func TestWhatGoesOnInAWindowThatIsSummarisedCounts(t *testing.T) {
	virtual(t, func(t *testing.T) {
		several := [][]series.Tier{nil, {series.TenSecond, series.Minute, hour}, {hour}}
		for world := range len(several) * rounds.Of(1) { // each is of some hours, which more rounds would leave
			tiers := several[world%len(several)]
			r := newRig(t, func(r *rig) { r.tiers = tiers })
			random := rand.New(rand.NewPCG(uint64(world), 9))
			model := map[int64]float64{}
			begin := time.Now().Add(-30 * time.Hour).Truncate(time.Hour)
			var at time.Duration
			for round := range min(20, rounds.Of(20)) {
				values := map[time.Duration]float64{}
				for range 1 + random.IntN(20) { // each is newer than all before
					at += time.Duration(1 + random.Int64N(int64([]time.Duration{10 * time.Second, 30 * time.Second, 5 * time.Minute}[random.IntN(3)])))
					values[at] = random.Float64() * 20
					model[begin.Add(at).UnixNano()] = values[at]
				}
				require.NoError(t, r.give(values, begin))
				r.agrees(model, begin, begin.Add(20*time.Hour), "at once")
				switch random.IntN(5) {
				case 0:
					r.again()
				case 1:
					time.Sleep(time.Duration(random.IntN(1500)) * time.Millisecond)
				case 2:
					r.rest()
					require.NoError(t, r.store.Seal(t.Context(), engine.Sealing{}))
					r.again()
				default:
					r.rest()
				}
				r.agrees(model, begin, begin.Add(20*time.Hour), fmt.Sprintf("a moment after round %d", round))
			}
			r.rest()
			assert.Empty(t, r.store.LateSeries())
		}
	})
}

func TestWhatComesAfterTheClockWasSetBackCounts(t *testing.T) {
	virtual(t, func(t *testing.T) {
		begin := time.Now().Add(-48 * time.Hour).Truncate(time.Hour)
		var passed atomic.Int64
		passed.Store(int64(time.Hour))
		r := newRig(t, func(r *rig) { r.clock = func() time.Time { return begin.Add(time.Duration(passed.Load())) } })
		model := map[int64]float64{}
		give := func(values map[time.Duration]float64) {
			for after, v := range values {
				model[begin.Add(after).UnixNano()] = v
			}
			require.NoError(t, r.give(values, begin))
		}
		give(map[time.Duration]float64{
			50 * time.Minute:                1,
			59*time.Minute + 30*time.Second: 2,
			59*time.Minute + 48*time.Second: 3,
		})
		passed.Add(int64(time.Minute))
		r.rest()
		passed.Store(int64(59*time.Minute + 31*time.Second))
		give(map[time.Duration]float64{20 * time.Minute: 4, 59*time.Minute + 32*time.Second: 5})
		r.rest() // makes what is long over
		r.agrees(model, begin, begin.Add(2*time.Hour), "while its window seems to be open")
		passed.Store(int64(2 * time.Hour))
		r.rest()
		assert.Empty(t, r.store.LateSeries())
		r.agrees(model, begin, begin.Add(2*time.Hour), "later")
	})
}

func TestMoreHistoryThanIsSummarisedAtOnceIsAllThere(t *testing.T) {
	rounds.Alone(t)
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		model := map[int64]float64{}
		begin := time.Now().Add(-10 * 24 * time.Hour).Truncate(time.Hour)
		values := map[time.Duration]float64{}
		for i := range 3 * mostPerRoll {
			after := time.Duration(i) * 10 * time.Second
			values[after] = float64(i % 20)
			model[begin.Add(after).UnixNano()] = values[after]
		}
		require.NoError(t, r.give(values, begin))
		for made, times := 0, 0; made < 2 || times < 5; times++ {
			r.agrees(model, begin, begin.Add(7*24*time.Hour), "while it is summarised")
			rows, err := r.store.Read(t.Context(), 1, series.Minute, 0, 1<<62)
			require.NoError(t, err)
			if rows.Len() > 0 {
				made++
			}
			time.Sleep(100 * time.Millisecond)
		}
		r.rest()
		r.agrees(model, begin, begin.Add(7*24*time.Hour), "when it is")
		known, _ := r.store.Get(1)
		assert.Equal(t, engine.LateStretch{}, known.Late)
	})
}
