package access

import (
	"compress/gzip"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/tables/tablestest"
)

// The records of the first version, with an entry of the audit, are brought up to date, and new ones are the same.
func TestTheStepsMakeTheTablesOfTheModels(t *testing.T) {
	from, err := os.Open("testdata/0001.db.gz")
	require.NoError(t, err)
	defer from.Close()
	reader, err := gzip.NewReader(from)
	require.NoError(t, err)
	text, err := io.ReadAll(reader)
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "old.db"), text, 0o600))
	for name, entries := range map[string]int64{"old.db": 1, "new.db": 0} {
		db, err := openFile(filepath.Join(dir, name), slog.New(slog.DiscardHandler))
		require.NoError(t, err, name)
		tablestest.Same(t, db, &accountRow{}, &passkeyRow{}, &sessionRow{}, &tokenRow{}, &codeRow{}, &gatewayRow{},
			&auditRow{})
		var n int64
		require.NoError(t, db.Model(&auditRow{}).Count(&n).Error)
		assert.Equal(t, entries, n, name)
		pool, err := db.DB()
		require.NoError(t, err)
		require.NoError(t, pool.Close())
	}
}
