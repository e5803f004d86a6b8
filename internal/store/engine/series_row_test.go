package engine

import (
	"log/slog"
	"math"
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
		row.complete()
		require.NoError(t, db.Create(&row).Error)
		var back seriesRow
		require.NoError(t, db.Take(&back, row.ID).Error)
		assert.True(t, back.matches(), "%s of a series: %.60v", column, row)
		require.NoError(t, db.Delete(&back).Error)
	})
}

// Earlier programs made the sum of -0, which the database gives back as 0.
func TestARowWithTheSumOfMinusZeroMatches(t *testing.T) {
	row := seriesRow{ID: 1, Path: "a/b/c", Kind: "gauge"}
	row.Checksum = row.sumWith(row.Wrap, math.Copysign(0, -1), row.Worst)
	require.NotEqual(t, row.sum(), row.Checksum)
	assert.True(t, row.matches())
	row.LastValue = 1
	assert.False(t, row.matches())
}
