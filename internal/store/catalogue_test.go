package store

import (
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/core/series"
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
