package store

import (
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
)

// A change of the labels of a series and one of its tiers, made at the same time from what was read before, both last.
func TestChangesOfADefinitionDoNotUndoEachOther(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), "nexocumula.db"), slog.New(slog.DiscardHandler), Options{})
	require.NoError(t, err)
	defer s.Close()
	def := series.Definition{Path: "stony-beck/raceway-1/oxygen", Kind: series.Gauge, FreshFor: 60e9}
	wider, err := series.ParseTiers([]string{"10s", "1m", "15m"})
	require.NoError(t, err)
	ids, err := s.Define(t.Context(), []series.Definition{def})
	require.NoError(t, err)
	for i := range 50 {
		labels, tiers := series.Labels(fmt.Sprintf("round=%d", i)), []series.Tiers{{}, wider}[i%2]
		var both sync.WaitGroup
		both.Go(func() {
			said := def // as it was before, with other labels
			said.Labels = labels
			_, err := s.DefineKeeping(t.Context(), []series.Definition{said},
				func(def, known *series.Definition) { def.Tiers = known.Tiers })
			assert.NoError(t, err)
		})
		both.Go(func() {
			assert.NoError(t, s.Update(t.Context(), ids, func(_ uint32, def *series.Definition) { def.Tiers = tiers }))
		})
		both.Wait()
		known, _ := s.Get(ids[0])
		require.Equal(t, [2]any{labels, tiers}, [2]any{known.Labels, known.Tiers}, i)
	}
	require.NoError(t,
		s.Update(t.Context(), []uint32{99},
			func(uint32, *series.Definition) { assert.Fail(t, "there is no such series") }))
}

// Series that are new to a gateway are written with the first rows that are appended, whosever they are, and are
// there for all who ask meanwhile.
func TestNewSeriesAreWrittenWithTheNextRows(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	first := define(t, s, "a/b/first")
	keep := func(def, known *series.Definition) {}
	var ids []uint32
	for i := range 3 {
		got, err := s.DefineKeeping(t.Context(), []series.Definition{{
			Path: series.Path(fmt.Sprint("a/b/", i)), Kind: series.Gauge, Unit: "Cel", FreshFor: time.Minute,
		}}, keep)
		require.NoError(t, err)
		ids = append(ids, got...)
	}
	assert.Len(t, s.List(series.Everything()), 4)
	changed := series.Definition{Path: "a/b/1", Kind: series.Gauge, Unit: "K", FreshFor: time.Minute}
	_, err := s.Redefine(t.Context(), []series.Definition{changed}) // which writes those before it
	require.NoError(t, err)
	got, err := s.DefineKeeping(t.Context(), []series.Definition{
		{Path: "a/b/late", Kind: series.Gauge, FreshFor: time.Minute},
		{Path: "a/b/0", Kind: series.Gauge, Unit: "Cel", FreshFor: time.Minute},
	}, keep)
	require.NoError(t, err)
	assert.Equal(t, ids[0], got[1])
	_, err = s.DefineKeeping(t.Context(), []series.Definition{{
		Path:     "a/b/late",
		Kind:     series.Counter,
		FreshFor: time.Minute,
	}}, keep)
	assert.ErrorContains(t, err, "was recorded as a gauge")

	lost := reopen(t, s)
	_, found := lost.Find("a/b/late")
	assert.False(t, found, "it has no rows, and nobody was told that it is there for good")
	one, _ := lost.Find("a/b/1")
	assert.Equal(t, []any{ids[1], "K"}, []any{one.ID, one.Unit})

	again, err := lost.DefineKeeping(t.Context(), []series.Definition{{
		Path:     "a/b/later",
		Kind:     series.Gauge,
		FreshFor: time.Minute,
	}}, keep)
	require.NoError(t, err)
	for _, id := range []uint32{first, again[0]} {
		require.NoError(t,
			lost.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(1, 7)}}}))
	}
	s = reopen(t, lost)
	_, found = s.Find("a/b/later")
	assert.True(t, found)
	rows, err := s.Read(t.Context(), again[0], series.Readings, 0, 10)
	require.NoError(t, err)
	assert.Equal(t, []float64{7}, rows.Cols[0])
	assert.Zero(t, s.Damaged())
}
