package store

import (
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	_ "modernc.org/sqlite" // registers the driver "sqlite"
)

// openSQLite opens the file with what only SQLite knows: a write-ahead log, so that
// queries and writes do not wait for each other, and a sync to disk at each commit.
func openSQLite(path string, log *slog.Logger) (*gorm.DB, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o750); err != nil {
		return nil, fmt.Errorf("creating the store's folder: %w", err)
	}
	settings := url.Values{"_txlock": {"immediate"}, "_pragma": {
		"journal_mode(WAL)", "synchronous(FULL)", "busy_timeout(10000)", "cache_size(-16000)", "journal_size_limit(67108864)",
	}}
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + settings.Encode()}, &gorm.Config{
		SkipDefaultTransaction: true,
		PrepareStmt:            true,
		Logger: logger.NewSlogLogger(log, logger.Config{
			LogLevel: logger.Warn, SlowThreshold: 5 * time.Second, IgnoreRecordNotFoundError: true, ParameterizedQueries: true,
		}),
	})
	if err != nil {
		return nil, fmt.Errorf("opening the store %s: %w", path, err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, fmt.Errorf("opening the store %s: %w", path, err)
	}
	pool.SetMaxOpenConns(4)
	pool.SetMaxIdleConns(4)
	return db, nil
}
