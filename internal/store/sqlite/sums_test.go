package sqlite

import (
	"log/slog"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/rounds"
	"nexocumula/internal/store/storetest"
)

func TestChunksMatchTheirChecksumWhateverIsInThem(t *testing.T) {
	rounds.Alone(t)
	db, err := Records(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer closePool(db)
	require.NoError(t, db.AutoMigrate(&Chunk{}))
	storetest.EachExtreme(t, Chunk{ID: 1, Series: 1}, func(row Chunk, column string) {
		row.Complete()
		require.NoError(t, db.Create(&row).Error)
		var back Chunk
		require.NoError(t, db.Take(&back, row.ID).Error)
		assert.True(t, back.Matches(), "%s of a chunk: %+v", column, row)
		require.NoError(t, db.Delete(&back).Error)
	})
}
