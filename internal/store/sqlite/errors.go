package sqlite

import (
	"errors"
	"fmt"
	"path/filepath"
	"syscall"

	driver "modernc.org/sqlite" // registers the driver "sqlite"
	codes "modernc.org/sqlite/lib"
)

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
			return fmt.Errorf("%w: its disk has %d bytes left; free some space, nothing in the store is wrong", err,
				room)
		}
		return fmt.Errorf("%w: its disk cannot be read or written; look at the system's log for the disk, and make a copy of the folder while that is possible",
			err)
	case codes.SQLITE_CANTOPEN, codes.SQLITE_READONLY, codes.SQLITE_PERM:
		return fmt.Errorf("%w: let the account that runs the service read and write the file, and those beside it that begin with its name",
			err)
	case codes.SQLITE_BUSY, codes.SQLITE_LOCKED:
		return fmt.Errorf("%w: another process holds it; end that first", err)
	}
	return err
}

// fewBytes are too few for SQLite to open a file: it makes an index of 32 KB for its log, and writes pages.
const fewBytes = 256 << 10

// roomAt returns how many bytes are left on the disk of a file.
func roomAt(path string) (bytes uint64, known bool) {
	free, size := diskOf(path)
	return free, size > 0
}

// diskOf returns how many bytes are left on the disk of a file, and how many it has; 0 when that is not known.
func diskOf(path string) (free, size uint64) {
	var disk syscall.Statfs_t
	if err := syscall.Statfs(filepath.Dir(path), &disk); err != nil {
		return 0, 0
	}
	return disk.Bavail * uint64(disk.Bsize), disk.Blocks * uint64(disk.Bsize)
}

// isCorrupt reports whether SQLite itself found its file damaged.
func isCorrupt(err error) bool {
	e, ok := errors.AsType[*driver.Error](err)
	return ok && (e.Code()&0xff == codes.SQLITE_CORRUPT || e.Code()&0xff == codes.SQLITE_NOTADB)
}
