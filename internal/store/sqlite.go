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
	"syscall"
	"time"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	driver "modernc.org/sqlite" // registers the driver "sqlite"
	codes "modernc.org/sqlite/lib"
)

// All that only SQLite knows is in this file and in wal.go.

// openSQLite opens the file twice, for writing and for reading: with a write-ahead log,
// so that queries and writes do not wait for each other, and a sync to disk at each
// commit. A transaction of the reader sees the file as it was when it began.
func openSQLite(path string, log *slog.Logger) (writer, reader *gorm.DB, err error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o750); err != nil {
		return nil, nil, fmt.Errorf("creating the store's folder: %w", err)
	}
	if err := checkLength(path); err != nil {
		return nil, nil, err
	}
	if err := checkWritable(path); err != nil {
		return nil, nil, err
	}
	if err := onlyOurs(path); err != nil {
		return nil, nil, err
	}
	if err := create(path, log); err != nil {
		return nil, nil, err
	}
	shared := []string{"journal_mode(WAL)", "synchronous(FULL)", "busy_timeout(10000)", "journal_size_limit(8388608)", "temp_store(MEMORY)"}
	writer, err = openPool(path, log, 1, url.Values{"_txlock": {"immediate"}, "_pragma": append(shared, "cache_size(-2000)")})
	if err != nil {
		return nil, nil, err
	}
	reader, err = openPool(path, log, 4, url.Values{"_txlock": {"deferred"}, "_pragma": append(shared, "cache_size(-1000)")})
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

// pageBytes is small, as every commit writes at least one page.
const pageBytes = 1024

// create makes a file that is not there yet, or empty, with pages of our size that can be
// given back. The driver looks at a file before any of its settings counts, so both come
// into effect by writing the file anew.
func create(path string, log *slog.Logger) error {
	if info, err := os.Stat(path); err == nil && info.Size() > 0 {
		return nil
	}
	db, err := openPool(path, log, 1, url.Values{"_pragma": {"busy_timeout(10000)"}})
	if err != nil {
		return err
	}
	for _, step := range []string{fmt.Sprintf("PRAGMA page_size = %d", pageBytes), "PRAGMA auto_vacuum = 2", "CREATE TABLE first (id integer)", "VACUUM", "DROP TABLE first"} {
		if err := db.Exec(step).Error; err != nil {
			return errors.Join(fmt.Errorf("creating the store %s: %w", path, err), closePool(db))
		}
	}
	return closePool(db)
}

// neverEvicted is the one value for which GORM starts no goroutine to evict prepared
// statements. It would never end, also after the pool is closed.
const neverEvicted = 10 * 365 * 24 * time.Hour

func openPool(path string, log *slog.Logger, connections int, settings url.Values) (*gorm.DB, error) {
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + settings.Encode()}, &gorm.Config{
		SkipDefaultTransaction: true,
		PrepareStmt:            true,
		PrepareStmtMaxSize:     200,
		PrepareStmtTTL:         neverEvicted,
		Logger: logger.NewSlogLogger(log, logger.Config{
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
		return &cutShort{fmt.Sprintf("the store %s has only %d bytes, less than a header; restore it from a copy", path, info.Size())}
	}
	page := int64(binary.BigEndian.Uint16(head[16:]))
	if page == 1 {
		page = 65536
	}
	if want := page * int64(binary.BigEndian.Uint32(head[28:])); string(head[:15]) == "SQLite format 3" && info.Size() < want {
		return &cutShort{fmt.Sprintf("the store %s was cut short: it has %d bytes where its header says %d; restore it from a copy", path, info.Size(), want)}
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
	return fmt.Errorf("the store's folder %s cannot be written: %w; let the account that runs the service write it and the files in it, or set data: to another folder", filepath.Dir(path), err)
}

// cutShort is a file that lacks its end.
type cutShort struct{ text string }

func (c *cutShort) Error() string { return c.text }

// IsDamaged reports whether a file of records cannot be read for what is in it.
func IsDamaged(err error) bool {
	_, short := errors.AsType[*cutShort](err)
	return short || isCorrupt(err)
}

// explained adds to what SQLite says what somebody can do about it.
func explained(path string, err error) error {
	e, ok := errors.AsType[*driver.Error](err)
	if !ok {
		return err
	}
	switch e.Code() & 0xff {
	case codes.SQLITE_CORRUPT, codes.SQLITE_NOTADB:
		return fmt.Errorf("%w; if this is no file of nexocumula, name another folder, else restore it from a copy", err)
	case codes.SQLITE_FULL, codes.SQLITE_IOERR:
		if room, known := roomAt(path); known && room < fewBytes {
			return fmt.Errorf("%w: its disk has %d bytes left; free some space, nothing in the store is wrong", err, room)
		}
		return fmt.Errorf("%w: its disk cannot be read or written; look at the system's log for the disk, and make a copy of the folder while that is possible", err)
	case codes.SQLITE_CANTOPEN, codes.SQLITE_READONLY, codes.SQLITE_PERM:
		return fmt.Errorf("%w: let the account that runs the service read and write the file, and those beside it that begin with its name", err)
	case codes.SQLITE_BUSY, codes.SQLITE_LOCKED:
		return fmt.Errorf("%w: another process holds it; end that first", err)
	}
	return err
}

// fewBytes are too few for SQLite to open a file: it makes an index of 32 KB for its log, and writes pages.
const fewBytes = 256 << 10

// roomAt returns how many bytes are left on the disk of a file.
func roomAt(path string) (bytes uint64, known bool) {
	var disk syscall.Statfs_t
	if err := syscall.Statfs(filepath.Dir(path), &disk); err != nil {
		return 0, false
	}
	return disk.Bavail * uint64(disk.Bsize), true
}

// isCorrupt reports whether SQLite itself found its file damaged.
func isCorrupt(err error) bool {
	e, ok := errors.AsType[*driver.Error](err)
	return ok && (e.Code()&0xff == codes.SQLITE_CORRUPT || e.Code()&0xff == codes.SQLITE_NOTADB)
}

const (
	giveBackAtOnce = 1024 // pages
	fewFreePages   = 1024
)

// giveBackPages returns free pages to the file system, a few at a time, but for those
// that the journal will soon take again. write is held.
func (s *Store) giveBackPages() error {
	var free int
	if err := s.db.Raw("PRAGMA freelist_count").Scan(&free).Error; err != nil {
		return err
	}
	spare := free - fewFreePages - 2*s.journal.most/pageBytes
	if spare <= 0 {
		return nil
	}
	return s.db.Exec(fmt.Sprintf("PRAGMA incremental_vacuum(%d)", min(spare, giveBackAtOnce))).Error
}

// Metadata of a chunk, without its payloads.
const chunkColumns = "id, series, tier, first_at, last_at, row_count, steps, checksum"

// chunkFrom is the chunk that t falls into or, without one, the next after t; its ID is
// 0 when there is none. Chunks do not overlap.
func chunkFrom(db *gorm.DB, at seriesTier, t int64) (c chunkRow, err error) {
	if c, err = chunkBefore(db, at, t+1); err != nil || c.ID != 0 && c.LastAt >= t {
		return c, err
	}
	c = chunkRow{}
	err = db.Raw("SELECT "+chunkColumns+" FROM chunks WHERE series = ? AND tier = ? AND first_at > ? ORDER BY first_at LIMIT 1", at.series, int64(at.tier), t).Scan(&c).Error
	return c, err
}

// chunkBefore is the last chunk that begins before t.
func chunkBefore(db *gorm.DB, at seriesTier, t int64) (c chunkRow, err error) {
	err = db.Raw("SELECT "+chunkColumns+" FROM chunks WHERE series = ? AND tier = ? AND first_at < ? ORDER BY first_at DESC LIMIT 1", at.series, int64(at.tier), t).Scan(&c).Error
	return c, err
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
	pragmas := []string{"journal_mode(WAL)", "synchronous(FULL)", "busy_timeout(10000)", "journal_size_limit(1048576)", "temp_store(MEMORY)", "cache_size(-500)", "secure_delete(1)"}
	return openPool(path, log, 1, url.Values{"_txlock": {"immediate"}, "_pragma": pragmas})
}
