package query

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store/engine"
)

// Of a time that was thinned, windows are of all that arrived, and what they cannot tell is refused.
func TestWindowsOfThinnedReadingsAreOfAllThatArrived(t *testing.T) {
	value := func(i int) float64 { return math.Floor(float64(i) / 50) }
	plain, thinned := empty(t), empty(t)
	def := series.Definition{
		Path:     "stony-beck/raceway-1/oxygen",
		Kind:     series.Gauge,
		Unit:     "mg/l",
		FreshFor: 15 * time.Second,
	}
	put(t, plain, def, value)
	def.Thinning = series.Thinning{Method: series.OnChange, Silence: time.Hour}
	put(t, thinned, def, value)
	until := begin.Add(40 * time.Minute)
	require.NoError(t,
		thinned.Seal(t.Context(), engine.Sealing{Settled: func(uint32) int64 { return until.UnixNano() }}))
	s := thinned.List(everything(t))[0]
	require.Equal(t, until.UnixNano(), s.ThinnedTo)
	require.Less(t, 10*s.Thinned.Kept, s.Thinned.Arrived)

	for _, q := range []Windows{
		ask(t, "#", "10s", "count,mean,min,max,last,twa"), ask(t, "#", "1m", "count,sd"), ask(t, "#", "15m",
			"mean,max"), ask(t, "#", "", "mean,count"),
	} {
		a, b := answer(t, q, from(plain, true)).series[0], answer(t, q, from(thinned, true)).series[0]
		sameNumbers(t, a.Rows.Stats, b.Rows.Stats)
	}
	for _, q := range []Windows{ask(t, "#", "5s", "mean"), ask(t, "#", "10m", "p95"), ask(t, "#", "25s", "count")} {
		err := q.Run(t.Context(), from(thinned, true), &collected{})
		refusal, ok := err.(*RefusedError)
		require.True(t, ok, "%v", err)
		assert.Equal(t, "thinned", refusal.Code)
		assert.Contains(t, refusal.Message,
			"of stony-beck/raceway-1/oxygen not all readings from before "+until.Format(time.RFC3339)+" are kept (on_change silence 1h)")
		q.Range = window.Range{From: until, To: begin.Add(time.Hour), Exact: true}
		a, b := answer(t, q, from(plain, true)).series[0], answer(t, q, from(thinned, true)).series[0]
		sameNumbers(t, a.Rows.Stats, b.Rows.Stats) // later ones are all there
	}
	// A condition is told between bounds, as of summaries.
	q := ask(t, "#", "15m", "above:3.5")
	exact, bounds := answer(t, q, from(plain, true)).series[0].Rows, answer(t, q, from(thinned, true)).series[0].Rows
	for k, v := range exact.Stats[0] {
		assert.LessOrEqual(t, bounds.Least[0][k], v)
		assert.GreaterOrEqual(t, bounds.Most[0][k], v)
	}

	m := Moment{Select: everything(t), At: begin.Add(20*time.Minute + 3*time.Second), How: Before}
	found, _, err := m.Run(t.Context(), from(thinned, true))
	require.NoError(t, err)
	other, _, err := m.Run(t.Context(), from(plain, true))
	require.NoError(t, err)
	assert.True(t, !found[0].Sure || found[0].Time == other[0].Time, "what cannot be sure says so")

	// Where the summaries are not kept any more, what is left of the readings does not stand in for them.
	_, err = thinned.Drop(t.Context(), s.ID, series.TenSecond, begin.Add(365*24*time.Hour), time.Time{})
	require.NoError(t, err)
	left := answer(t, ask(t, "#", "10s", "count"), from(thinned, true)).series[0].Rows.Stats[0]
	assert.Zero(t, left[0])
	assert.EqualValues(t, 1, left[len(left)-1], "later readings do")

	found, _, err = m.Run(t.Context(), from(thinned, true))
	require.NoError(t, err)
	assert.False(t, found[0].Sure, "nor is it sure that one of them is the last")
}

func everything(t *testing.T) series.Selector {
	out, err := series.ParseSelector("#")
	require.NoError(t, err)
	return out
}

func sameNumbers(t *testing.T, want, got [][]float64) {
	t.Helper()
	for i, values := range want {
		require.Len(t, got[i], len(values))
		for k, v := range values {
			if math.IsNaN(v) {
				assert.True(t, math.IsNaN(got[i][k]))
			} else {
				assert.InDelta(t, v, got[i][k], 1e-9)
			}
		}
	}
}
