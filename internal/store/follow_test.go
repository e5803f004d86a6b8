package store

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/store/engine"
)

func TestAFollowerGetsRowsUpToItsBoundAndCountsTheRest(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "s.db"))
	id := define(t, s, "a/b/c")
	rows, names := s.Follow(3), s.Follow(0)
	for _, pairs := range [][]float64{{1, 10, 2, 20}, {3, 30}, {4, 40, 5, 50}} {
		require.NoError(t,
			s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(pairs...)}}}))
	}
	got := rows.Changed()
	require.Len(t, got, 1)
	assert.Equal(t, id, got[0].ID)
	require.Len(t, got[0].Entries, 2)
	assert.Equal(t, []float64{10, 20}, got[0].Entries[0].Rows.Cols[0])
	assert.Equal(t, []float64{30}, got[0].Entries[1].Rows.Cols[0])
	assert.Equal(t, 2, got[0].Missed)
	assert.Empty(t, rows.Changed(), "each row comes once")
	got = names.Changed()
	require.Len(t, got, 1)
	assert.Empty(t, got[0].Entries)
	assert.Equal(t, 5, got[0].Missed)
	rows.Stop()
	require.NoError(t, s.Append(t.Context(), engine.Batch{Entries: []engine.Entry{{Series: id, Rows: rowsOf(6, 60)}}}))
	assert.Empty(t, rows.Changed())
}
