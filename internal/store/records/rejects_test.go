package records_test

import (
	"log/slog"
	"math"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/rounds"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
)

func TestRejectsKeepWhatWasReadAndAreCounted(t *testing.T) {
	rounds.Alone(t)
	file := filepath.Join(t.TempDir(), "s.db")
	s := openAt(t, file)
	hour := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
	at := hour.Add(20 * time.Minute).UnixNano()
	glitch := reading.Reject{
		Time:    at,
		Source:  "probes",
		Place:   "unit 4, input 0",
		Reason:  "too low",
		Raw:     []byte{0xd8, 0xf7},
		Rule:    "range",
		Reading: &reading.Reading{Path: "stony-beck/raceway-4/oxygen", Time: at - 5, Value: -99.9},
	}
	state := reading.Reject{
		Time:    at,
		Source:  "gate",
		Place:   "x",
		Reason:  "r",
		Raw:     []byte{},
		Rule:    "state",
		Reading: &reading.Reading{Path: "alder-weir/gate/drive", Time: at, Text: "ajar", Unit: "1"},
	}
	nothing := reading.Reject{
		Time:    at,
		Source:  "gate",
		Place:   "x",
		Reason:  "r",
		Raw:     []byte{},
		Rule:    reading.NoNumber,
		Reading: &reading.Reading{Path: "alder-weir/gate/opening", Time: at, Value: math.NaN()},
	}
	require.NoError(t,
		s.Append(t.Context(), engine.Batch{Also: []sqlite.Change{s.Rejects.Add([]reading.Reject{glitch, state})}}))
	require.NoError(t,
		s.Append(t.Context(), engine.Batch{Also: []sqlite.Change{s.Rejects.Add([]reading.Reject{glitch, nothing})}}))
	require.NoError(t, s.Close())
	s = openAt(t, file)
	one, err := s.Rejects.Get(1)
	require.NoError(t, err)
	glitch.ID = 1
	assert.Equal(t, &glitch, one)
	one, err = s.Rejects.Get(4)
	require.NoError(t, err)
	assert.True(t, math.IsNaN(one.Reading.Value), "what was no number is none afterwards")
	one, err = s.Rejects.Get(5)
	require.NoError(t, err)
	assert.Nil(t, one)
	for _, test := range []struct {
		want records.Wanting
		ids  []uint64
	}{
		{records.Wanting{Most: 10}, []uint64{4, 3, 2, 1}}, {records.Wanting{Most: 2}, []uint64{4, 3}}, {records.Wanting{Most: 10, Before: 3}, []uint64{2, 1}}, {records.Wanting{Most: 10, After: 3}, []uint64{4}},
		{records.Wanting{Most: 10, Rule: "range"}, []uint64{3, 1}}, {records.Wanting{Most: 10, Source: "gate"}, []uint64{4, 2}}, {records.Wanting{Most: 1, Series: selectorOf(t,
			"+/raceway-4/#")}, []uint64{3}},
		{records.Wanting{Most: 10, Rule: "none"}, nil},
	} {
		found, err := s.Rejects.List(test.want)
		require.NoError(t, err)
		var ids []uint64
		for _, r := range found {
			ids = append(ids, r.ID)
		}
		assert.Equal(t, test.ids, ids, test.want)
	}
	counts, err := s.Rejects.Counts(hour, hour.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, []records.RejectCount{
		{hour, "gate", "number", 1}, {hour, "gate", "state", 1}, {hour, "probes", "range", 2},
	}, counts)
	counts, err = s.Rejects.Counts(hour.Add(time.Hour), hour.Add(2*time.Hour))
	require.NoError(t, err)
	assert.Empty(t, counts)
	require.NoError(t, s.Rejects.Replayed([]uint64{1}, hour))
	found, err := s.Rejects.List(records.Wanting{Most: 10, Rule: "range", Counting: true})
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.EqualValues(t, 3, found[0].ID)
}

func selectorOf(t *testing.T, text string) series.Selector {
	s, err := series.ParseSelector(text)
	require.NoError(t, err)
	return s
}

func TestDefinitionsThatChangeLeaveVersions(t *testing.T) {
	rounds.Alone(t)
	file := filepath.Join(t.TempDir(), "s.db")
	s := openAt(t, file)
	def := series.Definition{Path: "a/b/c", Kind: series.Gauge, Unit: "%", FreshFor: time.Minute, Labels: "x=1"}
	put := func() engine.Series {
		ids, err := s.Define(t.Context(), []series.Definition{def})
		require.NoError(t, err)
		known, _ := s.Get(ids[0])
		return known
	}
	put()
	def.Labels = "x=2"
	known := put()
	all, err := s.Versions.Of(known.ID, known.Definition)
	require.NoError(t, err)
	assert.Equal(t, []records.Version{{Definition: def}}, all, "labels come and go")
	begun := time.Now()
	first := def
	def.Calibration, def.Normal, def.Every = "points 120→0 880→100", "inner=6..12", 10*time.Second
	put()
	second := def
	def.Unit = "/"
	known = put()
	require.NoError(t, s.Close())
	s = openAt(t, file)
	again, _ := s.Get(known.ID)
	assert.Equal(t, def, again.Definition)
	all, err = s.Versions.Of(again.ID, again.Definition)
	require.NoError(t, err)
	require.Len(t, all, 3)
	assert.Equal(t, []series.Definition{def, second, first},
		[]series.Definition{all[0].Definition, all[1].Definition, all[2].Definition})
	assert.True(t, all[2].Since.IsZero())
	assert.False(t, all[1].Since.Before(begun.Truncate(time.Microsecond)))
	def.Calibration = "raw × 2 + 0, since 2026-03-01T08:00:00Z"
	put()
	all, err = s.Versions.Of(again.ID, again.Definition)
	require.NoError(t, err)
	assert.Equal(t, time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC), all[0].Since,
		"a calibration says itself since when it counts")
	for i := range 150 {
		def.FreshFor = time.Duration(i+1) * time.Second
		put()
	}
	all, err = s.Versions.Of(again.ID, again.Definition)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(all), 100+1)
	assert.Equal(t, def, all[0].Definition)
}

func openAt(t *testing.T, path string) *store.Store {
	s, err := store.Open(path, slog.New(slog.DiscardHandler), store.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}
