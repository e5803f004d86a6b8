package query

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// Of an hour of readings that count up, one minute has some below 100 and some not: besides those after the last
// summary, the readings of that minute are all that is read.
func TestAConditionIsReadWhereSummariesDoNotTellIt(t *testing.T) {
	st := stored(t)
	for range 2 { // in the tray, then sealed
		q := ask(t, "#", "15m", "below:100,below_first:100,below_last:100")
		q.Explain = true
		got := answer(t, q, from(st, true)).series[0]
		assert.Equal(t, []float64{900, 100, 0, 0}, got.Rows.Stats[0])
		assert.Equal(t, begin.UnixNano(), got.WholeTimes[1])
		assert.Equal(t, begin.Add(1000e9).UnixNano(), got.WholeTimes[2])
		require.NotNil(t, got.Explained)
		assert.Contains(t, got.Explained.Why, "but where a summary of 1m tells that a condition never held, or always")
		require.NoError(t, st.Seal(t.Context(), engine.Sealing{}))
		readings := got.Explained.ScanStats[len(got.Explained.ScanStats)-1]
		require.Equal(t, series.Readings, readings.Tier)
		if readings.Opened == 0 {
			assert.Equal(t, 6+30, readings.Rows)
		}
	}
}
