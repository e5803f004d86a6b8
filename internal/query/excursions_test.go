package query

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/excursion"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
)

// A spike of one reading is an excursion, though the mean of its minute is normal; times are cut to the range.
func TestExcursionsAreOfSingleReadings(t *testing.T) {
	st := empty(t)
	normal, err := series.MakeNormal(series.Bounds{Low: 6, High: 12}, series.Bounds{Low: 4, High: 20})
	require.NoError(t, err)
	put(t, st, series.Definition{
		Path:     "stony-beck/raceway-1/oxygen",
		Kind:     series.Gauge,
		Normal:   normal,
		FreshFor: 15 * time.Second,
	}, func(i int) float64 {
		switch {
		case i == 125: // 08:20:50
			return 25
		case i >= 300: // from 08:50
			return 5
		}
		return 9
	})
	put(t, st, series.Definition{
		Path:     "stony-beck/raceway-1/flow",
		Kind:     series.Gauge,
		FreshFor: 15 * time.Second,
	}, func(int) float64 { return -1 })
	q := Excursions{
		Select: everything(t),
		Zone:   time.UTC,
		Now:    begin.Add(2 * time.Hour),
		Range: window.Range{
			From: begin.Add(20*time.Minute + 30*time.Second),
			To:   begin.Add(time.Hour + 30*time.Minute + 30*time.Second),
		},
	}
	ns := func(d time.Duration) int64 { return begin.Add(d).UnixNano() }
	for _, readings := range []bool{true, false} { // with readings and as a central, by summaries alone
		found, err := q.Run(t.Context(), from(st, readings))
		require.NoError(t, err)
		require.Len(t, found, 2)
		silent := []excursion.Silence{{From: ns(time.Hour), To: q.Range.To.UnixNano()}}
		if !readings { // summaries of a minute end at 08:55, those of 10 s at 08:58
			silent[0].From = ns(58 * time.Minute)
		}
		assert.Equal(t, silent, found[0].Silences)
		assert.Empty(t, found[0].Excursions, "it has no normal range")
		last := excursion.Excursion{
			From:    ns(50 * time.Minute),
			To:      silent[0].From,
			Extreme: 5,
			At:      ns(50 * time.Minute),
		}
		assert.Equal(t, []excursion.Excursion{
			{
				From:    q.Range.From.UnixNano(),
				To:      ns(21 * time.Minute),
				High:    true,
				Outer:   true,
				Extreme: 25,
				At:      ns(20*time.Minute + 50*time.Second),
				Over:    true,
			}, last,
		}, found[1].Excursions)
		assert.Equal(t, silent, found[1].Silences)
	}
	q.Range.To = begin.Add(time.Hour)
	found, err := q.Run(t.Context(), from(st, true))
	require.NoError(t, err)
	assert.Len(t, found, 1, "nothing was silent by then")
	_, err = Excursions{Select: everything(t), Now: q.Now, Range: window.Range{From: begin, To: begin}}.Run(t.Context(),
		from(st, true))
	assert.ErrorContains(t, err, "give an earlier from")
}
