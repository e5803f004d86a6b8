package sqlite

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
)

// create makes a file that is not there yet, or empty, with pages of our size that can be
// given back. The driver looks at a file before any of its settings counts, so both come
// into effect by writing the file anew. It is made beside its place and moved there once it is
// on the disk: a power cut leaves none, or all of it.
func create(path string, log *slog.Logger) error {
	if info, err := os.Stat(path); err == nil && info.Size() > 0 {
		return nil
	}
	fresh := path + "-new"
	for _, part := range []string{fresh, fresh + "-journal"} { // of a start that was cut off
		if err := os.Remove(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("creating the store: %w", err)
		}
	}
	if err := onlyOurs(fresh); err != nil {
		return err
	}
	for _, step := range []func() error{
		func() error { return fill(fresh, log) },
		func() error { return synced(fresh) },
		func() error { return os.Rename(fresh, path) },
		func() error { return synced(filepath.Dir(path)) },
	} {
		if err := step(); err != nil {
			return fmt.Errorf("creating the store %s: %w", path, err)
		}
	}
	return nil
}

func fill(path string, log *slog.Logger) error {
	db, err := openPool(path, log, 1, url.Values{"_pragma": {"busy_timeout(10000)"}})
	if err != nil {
		return err
	}
	for _, step := range []string{
		fmt.Sprintf("PRAGMA page_size = %d", pageBytes), "PRAGMA auto_vacuum = 2", "CREATE TABLE first (id integer)",
		"VACUUM", "DROP TABLE first",
	} {
		if err := db.Exec(step).Error; err != nil {
			return errors.Join(err, closePool(db))
		}
	}
	return closePool(db)
}

// synced has what a file or folder has on the disk.
func synced(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}
