package query

import (
	"context"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/store"
)

var begin = time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)

// stored is a store with an hour of one series: readings every ten seconds, counting
// up, 10 s summaries up to 08:58 and 1 min summaries up to 08:55.
func stored(t *testing.T) *store.Store {
	t.Helper()
	st, err := store.Open(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	def := series.Definition{Path: "stony-beck/raceway-1/oxygen", Kind: series.Gauge, FreshFor: 15 * time.Second}
	ids, err := st.Define([]series.Definition{def})
	require.NoError(t, err)
	raw := column.New(1, 0)
	for i := range 360 {
		raw.Add(begin.Add(time.Duration(i)*10*time.Second).UnixNano(), float64(i))
	}
	batch := store.Batch{Entries: []store.Entry{{Series: ids[0], Rows: raw}}}
	for tier, until := range map[rollup.Tier]time.Duration{rollup.TenSecond: 58 * time.Minute, rollup.Minute: 55 * time.Minute} {
		rows := rollup.NewBlock(0)
		for at := time.Duration(0); at < until; at += tier.Width() {
			start := begin.Add(at).UnixNano()
			s, ok := rollup.Fold(raw, start, tier.Width(), def)
			require.True(t, ok)
			s.AddTo(&rows, start)
		}
		batch.Entries = append(batch.Entries, store.Entry{Series: ids[0], Tier: tier, Rows: rows})
	}
	require.NoError(t, st.Append(batch))
	return st
}

func ask(t *testing.T, selector string, width time.Duration) Windows {
	t.Helper()
	s, err := series.ParseSelector(selector)
	require.NoError(t, err)
	return Windows{Select: s, From: begin, To: begin.Add(time.Hour), Width: width, Stats: []window.Stat{window.Count, window.Max}, Gaps: window.Gaps{Mode: window.Leave}}
}

func TestOpenWindowsAreCompletedFromWhatIsFiner(t *testing.T) {
	st := stored(t)
	for _, test := range []struct {
		readings bool
		counts   []float64
		last     float64
	}{
		{true, []float64{90, 90, 90, 90}, 359},
		{false, []float64{90, 90, 90, 78}, 347}, // a central has no readings: up to 08:58
	} {
		answer, err := ask(t, "#", 15*time.Minute).Run(t.Context(), st, test.readings)
		require.NoError(t, err)
		assert.Equal(t, rollup.Minute, answer.Plan.Tier)
		assert.Equal(t, test.counts, answer.Series[0].Stats[0])
		assert.Equal(t, test.last, answer.Series[0].Whole.Max)
		assert.InDelta(t, test.counts[3]/90, 1-float64(time.Hour-answer.Series[0].Whole.Covered)/float64(15*time.Minute), 0.01)
	}
}

func TestEveryWidthCountsTheSameReadings(t *testing.T) {
	st := stored(t)
	for _, width := range []time.Duration{7 * time.Second, 10 * time.Second, 25 * time.Second, 30 * time.Second, time.Minute, 90 * time.Second, time.Hour} {
		answer, err := ask(t, "stony-beck/#", width).Run(t.Context(), st, true)
		require.NoError(t, err)
		assert.EqualValues(t, 360, answer.Series[0].Whole.Count, width)
		assert.EqualValues(t, 359, answer.Series[0].Whole.Last, width)
	}
}

func TestRefusalsSayWhatToChange(t *testing.T) {
	st := stored(t)
	wide := ask(t, "#", 10*time.Second)
	wide.From = begin.Add(-500 * 24 * time.Hour)
	reversed := ask(t, "#", time.Minute)
	reversed.From, reversed.To = reversed.To, reversed.From
	for _, test := range []struct {
		query       Windows
		code, wrong string
	}{
		{wide, "too_large", "ask for a shorter range, a wider width than 10s, or fewer series"},
		{reversed, "range", "is not before"},
		{ask(t, "stony-beck/raceway-1/oxigen", time.Minute), "unknown_series", "near it are stony-beck/raceway-1/oxygen"},
		{ask(t, "#", 7*time.Second), "range", "use a multiple of it, such as 10s"},
	} {
		_, err := test.query.Run(t.Context(), st, false)
		var refused *Refusal
		require.ErrorAs(t, err, &refused)
		assert.Equal(t, test.code, refused.Code)
		assert.Contains(t, refused.Message, test.wrong)
	}
	empty, err := store.Open(filepath.Join(t.TempDir(), "e.db"), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer empty.Close()
	_, err = ask(t, "a/b", time.Minute).Run(t.Context(), empty, true)
	assert.ErrorContains(t, err, "there are no series here yet")
}

func TestACancelledQueryStops(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := ask(t, "#", time.Minute).Run(ctx, stored(t), true)
	assert.ErrorIs(t, err, context.Canceled)
}

func TestAWidthThatFits(t *testing.T) {
	for length, width := range map[time.Duration]time.Duration{
		time.Minute: 10 * time.Second, time.Hour: 10 * time.Second, 6 * time.Hour: time.Minute, 24 * time.Hour: 5 * time.Minute,
		7 * 24 * time.Hour: 30 * time.Minute, 365 * 24 * time.Hour: 24 * time.Hour, 20 * 365 * 24 * time.Hour: 7 * 24 * time.Hour,
	} {
		assert.Equal(t, width, fittingWidth(length), length)
	}
}
