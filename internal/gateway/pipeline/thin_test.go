package pipeline

import (
	"context"
	"database/sql"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/sketch"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
)

// thinRig is a pipeline that thins, beside all readings it took in.
type thinRig struct {
	*rig
	rule    config.SeriesRule
	arrived map[int64]float64
	begin   time.Time
	random  *rand.Rand
	late    bool // readings came after those beside them were thinned
}

func newThinRig(t *testing.T, rule series.Thinning) *thinRig {
	r := &thinRig{
		rig:     newRig(t),
		rule:    everything(t),
		arrived: map[int64]float64{},
		begin:   time.Now().Add(-12 * time.Hour).Truncate(time.Minute),
		random:  rand.New(rand.NewPCG(5, 6)),
	}
	r.rule.Thinning, r.rule.Sketch = rule, true
	r.use()
	return r
}

func (r *thinRig) use() { r.pipe.Use([]config.SeriesRule{r.rule}, nil) }

// come gives readings of from <= time < to, about every three seconds, and is how many were refused.
func (r *thinRig) come(from, to time.Duration) (refused uint64) {
	values := map[time.Duration]float64{}
	v := 10.0
	for at := from; at < to; at += time.Duration(1000+r.random.IntN(4000)) * time.Millisecond {
		v += r.random.NormFloat64() / 4
		values[at] = v
	}
	return r.take(values)
}

func (r *thinRig) take(values map[time.Duration]float64) uint64 {
	before := r.pipe.Rejected()
	require.NoError(r.t, r.give(values, r.begin))
	refused := r.pipe.Rejected() - before
	if refused == 0 {
		for at, v := range values {
			r.arrived[r.begin.Add(at).UnixNano()] = v
		}
	}
	return refused
}

// settle has all windows made that are over, and what is settled thinned.
func (r *thinRig) settle() {
	r.rest()
	var sealed <-chan struct{}
	require.NoError(r.t, r.pipe.Between(r.t.Context(), func() error {
		r.pipe.sealer.sealing.Lock()
		sealed = r.pipe.sealer.sealNow(context.Background())
		return nil
	}))
	<-sealed
}

func (r *thinRig) known() engine.Series {
	s, ok := r.store.Get(1)
	require.True(r.t, ok)
	return s
}

// check compares all summaries with those of all readings that arrived, and the readings that are
// kept with the error that is allowed.
func (r *thinRig) check() {
	r.t.Helper()
	all := column.New(1, 0)
	for _, at := range slices.Sorted(maps.Keys(r.arrived)) {
		all.Add(at, r.arrived[at])
	}
	s := r.known()
	for _, tier := range (series.Tiers{}).All() {
		made, err := r.store.Read(context.Background(), 1, tier, 0, math.MaxInt64)
		require.NoError(r.t, err)
		n := 0
		for start := tier.Start(all.Times[0]); start <= all.Times[all.Len()-1]; start += int64(tier) {
			want := rollup.Fold(all, start, start+int64(tier), &s.Definition)
			if want.Count == 0 {
				continue
			}
			require.Less(r.t, n, made.Len())
			got := rollup.FromRow(made, n, s.Kind)
			at := time.Unix(0, start).Sub(r.begin)
			require.Equal(r.t, start, made.Times[n], "%s at %s", tier, at)
			require.Equal(r.t, want.Count, got.Count, "%s at %s", tier, at)
			require.Equal(r.t, want.Covered, got.Covered, "%s at %s", tier, at)
			require.InDelta(r.t, want.Mean, got.Mean, 1e-9, "%s at %s", tier, at)
			require.InDelta(r.t, want.Held, got.Held, 1e-9, "%s at %s", tier, at)
			require.Equal(r.t, []float64{want.Min, want.Max, want.First, want.Last},
				[]float64{got.Min, got.Max, got.First, got.Last}, "%s at %s", tier, at)
			n++
		}
		require.Equal(r.t, n, made.Len())
	}
	r.checkSketches(all)
	kept, err := r.store.Read(context.Background(), 1, series.Readings, 0, math.MaxInt64)
	require.NoError(r.t, err)
	worst := 0.0
	for i, at := range all.Times {
		k := kept.Search(at + 1)
		require.NotZero(r.t, k)
		says := kept.Cols[0][k-1]
		if r.rule.Thinning.Method == series.SwingingDoor && kept.Times[k-1] != at {
			says += float64(at-kept.Times[k-1]) / float64(kept.Times[k]-kept.Times[k-1]) * (kept.Cols[0][k] - says)
		}
		worst = max(worst, math.Abs(says-all.Cols[0][i]))
		if at >= s.ThinnedTo {
			require.Equal(r.t, at, kept.Times[k-1], "what is not settled is all there")
		}
	}
	require.LessOrEqual(r.t, worst, r.rule.Thinning.Within*(1+1e-9))
	require.InDelta(r.t, worst, s.Thinned.Worst, 1e-9)
	require.EqualValues(r.t, all.Len()-kept.Len(), s.Thinned.Arrived-s.Thinned.Kept)
}

// checkSketches wants those of quarters of an hour to hold all readings, but for late ones of a quarter
// that was thinned: then it is of fewer than the summaries say, and nobody gets an estimate from it.
func (r *thinRig) checkSketches(all column.Block) {
	made, err := r.store.Sketches(context.Background(), 1, 0, math.MaxInt64, 1000)
	require.NoError(r.t, err)
	require.NotEmpty(r.t, made)
	for _, one := range made {
		sk, err := sketch.Parse(one.Data)
		require.NoError(r.t, err)
		n := float64(all.Between(one.Start, one.Start+int64(series.Quarter)).Len())
		if r.late {
			require.LessOrEqual(r.t, sk.Count(), n)
		} else {
			require.Equal(r.t, n, sk.Count())
		}
	}
}

func TestSummariesAreOfAllThatArrivedAndNotOfWhatIsKept(t *testing.T) {
	rounds.Alone(t)
	virtual(t, func(t *testing.T) {
		for _, rule := range []series.Thinning{
			{Method: series.Deadband, Within: 0.5, Silence: 10 * time.Minute},
			{Method: series.SwingingDoor, Within: 0.5, Silence: 40 * time.Second},
		} {
			r := newThinRig(t, rule)
			for _, stretch := range [][2]time.Duration{
				{0, 40 * time.Minute}, {40 * time.Minute, 41 * time.Minute}, {41 * time.Minute, 90 * time.Minute},
				{100 * time.Minute, 130 * time.Minute}, {150 * time.Minute, 300 * time.Minute},
			} {
				require.Zero(t, r.come(stretch[0], stretch[1]))
				r.settle()
				r.check()
			}
			s := r.known()
			assert.Greater(t, s.Thinned.Arrived, uint64(4000))
			assert.Less(t, 2*s.Thinned.Kept, s.Thinned.Arrived)

			r.late = true
			// What fills the gaps counts, from their very edges on, and again what fills the rest of them.
			require.Zero(t, r.come(90*time.Minute-500*time.Millisecond, 97*time.Minute))
			r.settle()
			r.check()
			require.Zero(t, r.come(90*time.Minute+5*time.Second, 100*time.Minute))
			require.Zero(t, r.come(130*time.Minute, 150*time.Minute))
			r.settle()
			r.check()

			// What falls between thinned ones cannot count, and says so.
			require.EqualValues(t, 1, r.take(map[time.Duration]float64{20*time.Minute + 123*time.Millisecond: 3}))
			r.settle()
			r.check()
			rejects, err := r.store.Rejects.List(records.Wanting{Most: 1})
			require.NoError(t, err)
			assert.Contains(t, rejects[0].Reason,
				"it falls between readings that were thinned ("+rule.String()+"), as all are more than 3m before the newest")
			assert.Equal(t, "thinning", rejects[0].Rule)

			// Without the rule all that comes from then on is kept, and with it again what was kept stays.
			r.rule.Thinning = series.Thinning{}
			r.use()
			require.Zero(t, r.come(300*time.Minute, 330*time.Minute))
			require.EqualValues(t, 1, r.take(map[time.Duration]float64{20*time.Minute + 456*time.Millisecond: 3}),
				"what was thinned stays so")
			r.settle()
			thinnedTo := r.known().ThinnedTo
			r.rule.Thinning = rule
			r.use()
			require.Zero(t, r.come(330*time.Minute, 400*time.Minute))
			r.settle()
			kept, err := r.store.Read(t.Context(), 1, series.Readings, thinnedTo,
				r.begin.Add(330*time.Minute).UnixNano())
			require.NoError(t, err)
			n := 0
			for at := range r.arrived {
				if at >= thinnedTo && at < r.begin.Add(330*time.Minute).UnixNano() {
					n++
				}
			}
			assert.Equal(t, n, kept.Len())
			r.check()
		}
	})
}

// A seal that is cut off leaves readings thinned and in the journal. What the journal has does not
// spoil the summaries of windows whose other readings are gone.
func TestASealThatWasCutOffWhileThinning(t *testing.T) {
	virtual(t, func(t *testing.T) {
		r := newThinRig(t, series.Thinning{Method: series.Deadband, Within: 0.5, Silence: time.Minute})
		cut := 60*time.Minute + 8*time.Second // inside a window, of which the journal has only the end
		require.Zero(t, r.come(0, cut))
		r.settle()
		require.Zero(t, r.come(cut, 120*time.Minute))
		r.rest()
		journal := r.journal("SELECT id, payload FROM journal")
		r.settle()
		r.stop()
		require.NoError(t, r.store.Close())
		db, err := sql.Open("sqlite", r.file)
		require.NoError(t, err)
		for _, row := range journal {
			_, err := db.Exec("INSERT INTO journal (id, payload) VALUES (?, ?)", row.id, row.payload)
			require.NoError(t, err)
		}
		require.NoError(t, db.Close())
		r.start()
		r.use()
		r.rest()
		s := r.known()
		require.NotZero(t, s.ThinnedTo)
		thinned := s.Thinned
		for range 2 {
			r.settle()
			all := r.known()
			assert.Equal(t, thinned.Worst, all.Thinned.Worst)
			made, err := r.store.Read(t.Context(), 1, series.TenSecond, 0, math.MaxInt64)
			require.NoError(t, err)
			total := 0.0
			for _, n := range made.Cols[rollup.ColCount] {
				total += n
			}
			assert.EqualValues(t, len(r.arrived), total)
		}
	})
}

type journalRow struct {
	id      int64
	payload []byte
}

func (r *rig) journal(query string) (out []journalRow) {
	db, err := sql.Open("sqlite", r.file)
	require.NoError(r.t, err)
	defer db.Close()
	rows, err := db.Query(query)
	require.NoError(r.t, err)
	defer rows.Close()
	for rows.Next() {
		var row journalRow
		require.NoError(r.t, rows.Scan(&row.id, &row.payload))
		out = append(out, row)
	}
	require.NotEmpty(r.t, out)
	return out
}
