package query

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
)

// belated makes the summaries that touch a stretch of time, of any tier, say something that never
// was, as if all readings there had come after them.
func belated(t *testing.T, random *rand.Rand, st *store.Store, ref reference, stretch engine.LateStretch) {
	id := st.List(everything(t))[0].ID
	for _, tier := range ref.def.Tiers.All() {
		made, err := st.Read(t.Context(), id, tier, tier.Start(stretch.From), stretch.To)
		require.NoError(t, err)
		wrong := rollup.NewBlock(ref.def.Kind, 0)
		for _, start := range made.Times {
			one := column.New(1, 1)
			one.Add(start+1+random.Int64N(1e9), 1e6)
			rollup.Fold(one, start, start+int64(tier), &ref.def).AddTo(&wrong, start, ref.def.Kind)
		}
		require.NoError(t,
			st.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Tier: tier, Rows: wrong}}}))
	}
	if random.IntN(2) == 0 {
		require.NoError(t, st.Seal(t.Context(), engine.Sealing{}))
	}
	st.MarkLate(id, stretch)
}

func TestWhatIsNotSummarisedYetIsAnsweredFromReadings(t *testing.T) {
	queries := rounds.Of(75)
	for _, kind := range []series.Kind{series.Gauge, series.Counter, series.State, series.Bearing} {
		for seed, length := range []time.Duration{time.Nanosecond, 40 * time.Second, 7 * time.Hour, 4 * 24 * time.Hour} {
			t.Run(fmt.Sprint(kind, " ", length), func(t *testing.T) {
				t.Parallel()
				random := rand.New(rand.NewPCG(uint64(seed), 99))
				st, ref := disordered(t, random, kind, stages[0].begin)
				from := ref.points[random.IntN(len(ref.points)/2)].at
				belated(t, random, st, ref, engine.LateStretch{From: from, To: from + int64(length)})
				for i := range queries {
					agree(t, random, st, ref, stages[0], i)
				}
			})
		}
	}
}

func TestWindowsWhoseSummariesAreNotMadeYetAreOpen(t *testing.T) {
	st := stored(t)
	first := st.List(everything(t))[0]
	st.MarkLate(first.ID, engine.LateStretch{
		From: begin.Add(20 * time.Minute).UnixNano(), To: begin.Add(31 * time.Minute).UnixNano(),
	})
	asked := ask(t, "#", "15m", "count")
	asked.Now, asked.Explain = begin.Add(5*time.Hour), true
	got := answer(t, asked, from(st, true)).series[0]
	assert.Equal(t, []bool{false, true, true, false}, got.Open)
	assert.Equal(t, []float64{90, 90, 90, 90}, got.Rows.Stats[0])
	assert.Equal(t,
		"from 2026-03-01T08:20:00Z to 2026-03-01T08:31:00Z the readings themselves, as their summaries are not made yet",
		got.Explained.Why)
	for _, read := range got.Explained.ScanStats {
		if read.Tier == series.Readings {
			assert.Equal(t, 66+12, read.Rows, "no more of them, and those of the last minutes, as ever")
		}
	}
}
