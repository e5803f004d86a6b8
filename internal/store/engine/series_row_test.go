package engine

import (
	"log/slog"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/rounds"
	"nexocumula/internal/store/sqlite"
	"nexocumula/internal/store/storetest"
)

func TestRowsMatchTheirChecksumWhateverIsInThem(t *testing.T) {
	rounds.Alone(t)
	db, err := sqlite.Records(filepath.Join(t.TempDir(), "s.db"), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	pool, err := db.DB()
	require.NoError(t, err)
	defer pool.Close()
	require.NoError(t, db.AutoMigrate(&seriesRow{}))
	storetest.EachExtreme(t, seriesRow{ID: 1, Path: "a/b/c", Kind: "gauge"}, func(row seriesRow, column string) {
		row.Checksum = row.sum()
		require.NoError(t, db.Create(&row).Error)
		var back seriesRow
		require.NoError(t, db.Take(&back, row.ID).Error)
		assert.Equal(t, back.sum(), back.Checksum, "%s of a series: %.60v", column, row)
		require.NoError(t, db.Delete(&back).Error)
	})
}
