package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
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

// openSQLite opens the file twice, for writing and for reading, with what only SQLite
// knows: a write-ahead log, so that queries and writes do not wait for each other, and
// a sync to disk at each commit. A transaction of the reader sees the file as it was
// when it began.
func openSQLite(path string, log *slog.Logger) (writer, reader *gorm.DB, err error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o750); err != nil {
		return nil, nil, fmt.Errorf("creating the store's folder: %w", err)
	}
	if err := checkLength(path); err != nil {
		return nil, nil, err
	}
	shared := []string{"journal_mode(WAL)", "synchronous(FULL)", "busy_timeout(10000)", "journal_size_limit(67108864)"}
	writer, err = openPool(path, log, 2, url.Values{"_txlock": {"immediate"}, "_pragma": append(shared, "cache_size(-16000)")})
	if err != nil {
		return nil, nil, err
	}
	reader, err = openPool(path, log, 4, url.Values{"_txlock": {"deferred"}, "_pragma": append(shared, "cache_size(-8000)")})
	return writer, reader, err
}

func openPool(path string, log *slog.Logger, connections int, settings url.Values) (*gorm.DB, error) {
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + settings.Encode()}, &gorm.Config{
		SkipDefaultTransaction: true,
		PrepareStmt:            true,
		Logger: logger.NewSlogLogger(log, logger.Config{
			LogLevel: logger.Warn, SlowThreshold: 5 * time.Second, IgnoreRecordNotFoundError: true, ParameterizedQueries: true,
		}),
	})
	if err != nil {
		return nil, fmt.Errorf("opening the store %s: %w; if this is no file of nexocumula, name another folder, else restore it from a copy", path, err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, fmt.Errorf("opening the store %s: %w", path, err)
	}
	pool.SetMaxOpenConns(connections)
	pool.SetMaxIdleConns(connections)
	return db, nil
}

func closePool(db *gorm.DB) error {
	if db == nil {
		return nil
	}
	pool, err := db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// checkLength refuses a file that was cut short, which SQLite would only notice when
// it comes to a page that is missing. With a write-ahead log beside it the header may
// lag behind, and SQLite mends what is to be mended. Source of the offsets:
// "Database File Format", 1.3.
func checkLength(path string) error {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("opening the store: %w", err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() == 0 {
		return err
	}
	if log, err := os.Stat(path + "-wal"); err == nil && log.Size() > 0 {
		return nil
	}
	head := make([]byte, 32)
	if _, err := io.ReadFull(f, head); err != nil {
		return fmt.Errorf("the store %s has only %d bytes, less than a header; restore it from a copy", path, info.Size())
	}
	page := int64(binary.BigEndian.Uint16(head[16:]))
	if page == 1 {
		page = 65536
	}
	if want := page * int64(binary.BigEndian.Uint32(head[28:])); string(head[:15]) == "SQLite format 3" && info.Size() < want {
		return fmt.Errorf("the store %s was cut short: it has %d bytes where its header tells of %d; restore it from a copy", path, info.Size(), want)
	}
	return nil
}
