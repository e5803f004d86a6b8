package pipeline

import (
	"context"
	"math"
	"math/rand/v2"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
)

const hour = series.Tier(time.Hour)

// everything returns one rule for all series, with some tiers.
func everything(t *testing.T, tiers ...series.Tier) config.SeriesRule {
	all, err := series.ParseSelector("#")
	require.NoError(t, err)
	return config.SeriesRule{
		Select: all,
		Definition: series.Definition{
			Kind:     series.Gauge,
			Unit:     "mg/l",
			FreshFor: time.Minute,
			Tiers:    tiersOf(t, tiers),
		},
	}
}

// tiersOf makes a list of widths; of none the usual ones.
func tiersOf(t require.TestingT, all []series.Tier) (tiers series.Tiers) {
	if all == nil {
		return tiers
	}
	tiers, err := series.MakeTiers(all)
	require.NoError(t, err)
	return tiers
}

// asFromReadings checks every window of a tier against its readings.
func (r *rig) asFromReadings(tier series.Tier) (windows int) {
	known, ok := r.store.Get(1)
	require.True(r.t, ok)
	rows, err := r.store.Read(context.Background(), 1, series.Readings, 0, 1<<62)
	require.NoError(r.t, err)
	made, err := r.store.Read(context.Background(), 1, tier, 0, 1<<62)
	require.NoError(r.t, err)
	for start := tier.Start(rows.Times[0]); start <= rows.Times[rows.Len()-1]; start += int64(tier) {
		want := rollup.Fold(rows, start, start+int64(tier), &known.Definition)
		if want.Count == 0 || start+int64(tier) > time.Now().UnixNano() {
			continue
		}
		i := made.Search(start)
		require.Less(r.t, i, made.Len(), "%s at %s is missing", tier, time.Unix(0, start).UTC())
		require.Equal(r.t, start, made.Times[i], "%s at %s is missing", tier, time.Unix(0, start).UTC())
		got := rollup.FromRow(made, i, known.Kind)
		require.Equal(r.t, want.Count, got.Count, "%s at %s", tier, time.Unix(0, start).UTC())
		require.Equal(r.t, want.Covered, got.Covered, "%s at %s", tier, time.Unix(0, start).UTC())
		require.InDelta(r.t, want.Mean, got.Mean, 1e-9)
		require.InDelta(r.t, want.Held, got.Held, 1e-9)
		require.Equal(r.t, [2]float64{want.Min, want.Max}, [2]float64{got.Min, got.Max})
		windows++
	}
	return windows
}

// rest waits until no window that is over waits for its summary.
func (r *rig) rest() {
	require.NoError(r.t, r.pipe.RollNow(r.t.Context()))
}

func TestTiersOfASeriesAreMadeOneOfTheOther(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		r.pipe.Use([]config.SeriesRule{everything(t, series.TenSecond, series.Quarter, hour)}, nil)
		random := rand.New(rand.NewPCG(1, 2))
		begin := time.Now().Add(-10 * time.Hour)
		for range 20 { // in any order, also between those of before
			values := map[time.Duration]float64{}
			for range 100 {
				values[time.Duration(random.Int64N(int64(9*time.Hour)))] = random.Float64() * 20
			}
			require.NoError(t, r.give(values, begin))
			r.rest()
		}
		for _, tier := range []series.Tier{series.TenSecond, series.Quarter, hour} {
			assert.NotZero(t, r.asFromReadings(tier))
		}
		none, err := r.store.Read(t.Context(), 1, series.Minute, 0, 1<<62)
		require.NoError(t, err)
		assert.Zero(t, none.Len())
	})
}

func TestANewTierIsFilledFromWhatIsThereWhileReadingsCome(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newRig(t)
		random := rand.New(rand.NewPCG(3, 4))
		begin := time.Now().Add(-50 * time.Hour)
		some := func(n int) {
			values := map[time.Duration]float64{}
			for range n {
				values[time.Duration(random.Int64N(int64(49*time.Hour)))] = random.Float64() * 20
			}
			require.NoError(t, r.give(values, begin))
		}
		some(5000)
		r.rest()
		require.NoError(t, r.store.Seal(t.Context(), engine.Sealing{States: []sqlite.State{openWindows(t, r)}}))
		tiersAre := func(names string) func() bool {
			return func() bool { known, _ := r.store.Get(1); return known.Tiers.String() == names }
		}
		r.pipe.Use([]config.SeriesRule{everything(t, series.TenSecond, series.Minute, hour)}, nil)
		for range 20 {
			some(20)
		}
		r.eventually("the new tier is there", tiersAre("10s,1m,1h"))
		r.rest()
		for _, tier := range []series.Tier{series.TenSecond, series.Minute, hour} {
			assert.NotZero(t, r.asFromReadings(tier))
		}
		// Others, of which none but the readings has been before, and one that is of no use for the rest.
		r.pipe.Use([]config.SeriesRule{everything(t, series.Tier(15*time.Second), series.Tier(45*time.Second), hour)},
			nil)
		some(20)
		r.eventually("the others are there", tiersAre("15s,45s,1h"))
		some(20)
		r.rest()
		for _, tier := range []series.Tier{series.Tier(15 * time.Second), series.Tier(45 * time.Second), hour} {
			assert.NotZero(t, r.asFromReadings(tier))
		}
		r.stop()
		require.NoError(t, r.store.Close())
		r.start() // whose rules want the usual ones
		r.eventually("the usual ones are back", tiersAre("10s,1m"))
		some(20)
		r.rest()
		assert.NotZero(t, r.asFromReadings(series.Minute))
	})
}

func TestWhatIsPendingWhenTiersChangeIsInTheNewOnes(t *testing.T) {
	virtual(t, func(t *testing.T) {
		for _, change := range [][2][]series.Tier{
			{{series.Minute}, {series.TenSecond, series.Minute}},
			{{series.TenSecond, series.Minute}, {series.Minute}},
			{{series.TenSecond, series.Minute, hour}, {series.TenSecond, hour}},
			{{series.Minute, hour}, {series.TenSecond, hour}},
		} {
			from, to := tiersOf(t, change[0]), tiersOf(t, change[1])
			noon := time.Now().Add(-24 * time.Hour).Truncate(24 * time.Hour).Add(12 * time.Hour)
			var passed atomic.Int64 // the clock moves when it is told to
			r := newRig(t, func(r *rig) {
				r.tiers, r.clock = change[0], func() time.Time { return noon.Add(time.Duration(passed.Load())) }
			})
			some := func(from, to time.Duration) {
				values := map[time.Duration]float64{}
				for at := from; at < to; at += 3 * time.Second {
					values[at] = math.Mod(at.Seconds(), 20)
				}
				require.NoError(t, r.give(values, noon))
			}
			passed.Store(int64(130 * time.Second))
			some(0, 150*time.Second)  // a little later than the clock says, and than what a fill makes
			time.Sleep(2 * rollEvery) // some is made, and some still open
			r.pipe.Use([]config.SeriesRule{everything(t, change[1]...)}, nil)
			r.eventually("it has the others", func() bool { known, _ := r.store.Get(1); return known.Tiers == to })
			some(151*time.Second, 170*time.Second)
			passed.Store(int64(2 * time.Hour))
			time.Sleep(2 * rollEvery)
			r.rest()
			for _, tier := range change[1] {
				assert.NotZero(t, r.asFromReadings(tier), "%s of %q, which was %q", tier, to, from)
			}
		}
	})
}
