package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"

	"gorm.io/gorm"
)

// OpenReadOnly opens a file to be looked at, whether a service has it open or not. Nothing in it is changed. Close it.
func OpenReadOnly(path string, log *slog.Logger) (*gorm.DB, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no file %s; name the folder that data: of a configuration names", path)
	}
	return openPool(path, log, 2, url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(10000)", "cache_size(-2000)", "temp_store(MEMORY)"}})
}

// CloseReadOnly closes it.
func CloseReadOnly(db *gorm.DB) error { return closePool(db) }

// mostPageProblems of a table are told.
const mostPageProblems = 20

// VerifyPages has SQLite look through the pages of its tables and their indexes, one table after the other.
func VerifyPages(ctx context.Context, db *gorm.DB, found func(table, text string)) error {
	var tables []string
	if err := db.WithContext(ctx).Raw("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name").Scan(&tables).Error; err != nil {
		return fmt.Errorf("reading which tables there are: %w", err)
	}
	for _, table := range tables {
		var problems []string
		err := db.WithContext(ctx).Raw(fmt.Sprintf("PRAGMA integrity_check('%s')", table)).Scan(&problems).Error
		switch {
		case IsDamaged(err):
			problems = []string{err.Error()}
		case err != nil:
			return fmt.Errorf("looking through the pages of %s: %w", table, err)
		case len(problems) == 1 && problems[0] == "ok":
			continue
		}
		for _, text := range problems[:min(len(problems), mostPageProblems)] {
			found(table, text)
		}
	}
	return nil
}
