package sqlite

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
	"syscall"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"nexocumula/internal/event"
)

// openPools opens the file twice, for writing and for reading: with a write-ahead log,
// so that queries and writes do not wait for each other, and a sync to disk at each
// commit. A transaction of the reader sees the file as it was when it began.
func openPools(path string, log *slog.Logger) (writer, reader *gorm.DB, err error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o750); err != nil {
		return nil, nil, fmt.Errorf("creating the store's folder: %w", err)
	}
	if err := checkLength(path); err != nil {
		return nil, nil, err
	}
	if err := checkWritable(path); err != nil {
		return nil, nil, err
	}
	if err := create(path, log); err != nil {
		return nil, nil, err
	}
	if err := onlyOurs(path); err != nil {
		return nil, nil, err
	}
	shared := []string{
		"journal_mode(WAL)", "synchronous(FULL)", "busy_timeout(10000)", "journal_size_limit(8388608)",
		"temp_store(MEMORY)",
	}
	writer, err = openPool(path, log, 1,
		url.Values{"_txlock": {"immediate"}, "_pragma": append(shared, "cache_size(-2000)")})
	if err != nil {
		return nil, nil, err
	}
	reader, err = openPool(path, log, 4,
		url.Values{"_txlock": {"deferred"}, "_pragma": append(shared, "cache_size(-1000)")})
	return writer, reader, err
}

// onlyOurs makes sure that only the account of the service may read and write a file of records and what
// SQLite puts beside it, whatever the umask: SQLite gives its log the rights of its file.
func onlyOurs(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if errors.Is(err, syscall.ENOSPC) {
		return nil // SQLite says more of it
	}
	if err != nil {
		return fmt.Errorf("opening %s: %w", path, err)
	}
	if err := f.Close(); err != nil {
		return fmt.Errorf("opening %s: %w", path, err)
	}
	for _, part := range []string{"", "-wal", "-shm", "-watermark"} {
		info, err := os.Stat(path + part)
		if err != nil || info.Mode().Perm()&0o077 == 0 {
			continue
		}
		if err := os.Chmod(path+part, info.Mode().Perm()&0o700); err != nil {
			return fmt.Errorf("taking the rights of others to %s away: %w", path+part, err)
		}
	}
	return nil
}

// neverEvicted is the one value for which GORM starts no goroutine to evict prepared
// statements. It would never end, also after the pool is closed.
const neverEvicted = 10 * 365 * 24 * time.Hour

func openPool(path string, log *slog.Logger, connections int, settings url.Values) (*gorm.DB, error) {
	db, err := gorm.Open(sqlite.Dialector{
		DriverName: "sqlite", DSN: "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + settings.Encode(),
	}, &gorm.Config{
		SkipDefaultTransaction: true,
		PrepareStmt:            true,
		PrepareStmtMaxSize:     200,
		PrepareStmtTTL:         neverEvicted,
		Logger: logger.NewSlogLogger(event.OfLibrary(log), logger.Config{ // what fails is told where it is asked for
			LogLevel: logger.Warn, SlowThreshold: 5 * time.Second, IgnoreRecordNotFoundError: true, ParameterizedQueries: true,
		}),
	})
	if err != nil {
		return nil, fmt.Errorf("opening the store %s: %w", path, explained(path, err))
	}
	pool, err := db.DB()
	if err != nil {
		return nil, fmt.Errorf("opening the store %s: %w", path, err)
	}
	pool.SetMaxOpenConns(connections)
	pool.SetMaxIdleConns(min(connections, 2))
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
		return &cutShort{fmt.Sprintf("the store %s has only %d bytes, less than a header; restore it from a copy",
			path, info.Size())}
	}
	page := int64(binary.BigEndian.Uint16(head[16:]))
	if page == 1 {
		page = 65536
	}
	if want := page * int64(binary.BigEndian.Uint32(head[28:])); string(head[:15]) == "SQLite format 3" &&
		info.Size() < want {
		return &cutShort{fmt.Sprintf("the store %s was cut short: it has %d bytes where its header says %d; restore it from a copy",
			path, info.Size(), want)}
	}
	return nil
}

// checkWritable says plainly what SQLite would call a read-only database.
func checkWritable(path string) error {
	probe := path + "-probe"
	f, err := os.OpenFile(probe, os.O_CREATE|os.O_WRONLY, 0o600)
	if err == nil {
		f.Close()
		err = os.Remove(probe)
	}
	if err == nil {
		if f, err = os.OpenFile(path, os.O_RDWR, 0); err == nil {
			return f.Close()
		}
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
	}
	if errors.Is(err, syscall.ENOSPC) {
		return nil // a full disk is no matter of rights, and may still hold what is there
	}
	if pathErr, ok := errors.AsType[*fs.PathError](err); ok {
		err = pathErr.Err
	}
	return fmt.Errorf("the store's folder %s cannot be written: %w; let the account that runs the service write it and the files in it, or set data: to another folder",
		filepath.Dir(path), err)
}

// Records opens or creates a small file of records besides the store, which only its owner
// may read, for one writer and reader at a time.
func Records(path string, log *slog.Logger) (*gorm.DB, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o750); err != nil {
		return nil, fmt.Errorf("creating the folder of %s: %w", path, err)
	}
	if err := onlyOurs(path); err != nil {
		return nil, err
	}
	if err := checkLength(path); err != nil {
		return nil, err
	}
	pragmas := []string{
		"journal_mode(WAL)", "synchronous(FULL)", "busy_timeout(10000)", "journal_size_limit(1048576)",
		"temp_store(MEMORY)", "cache_size(-500)", "secure_delete(1)",
	}
	return openPool(path, log, 1, url.Values{"_txlock": {"immediate"}, "_pragma": pragmas})
}
