package sqlite

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
)

// Snapshot hands out the bytes of a file as it is at one moment, in order, though a service goes on writing to it. What is
// still in its log stands in its place. The bytes are valid until the next come.
func Snapshot(ctx context.Context, path string, log *slog.Logger, take func(bytes []byte) error) (err error) {
	db, err := OpenReadOnly(path, log)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, closePool(db)) }()
	moment := db.WithContext(ctx).Begin()
	if moment.Error != nil {
		return fmt.Errorf("reading %s: %w", path, moment.Error)
	}
	defer moment.Rollback()
	var pages int
	if err := moment.Raw("SELECT page_count FROM pragma_page_count").Scan(&pages).Error; err != nil {
		return fmt.Errorf("reading %s: %w", path, err)
	}
	rows, err := moment.Raw("SELECT data FROM sqlite_dbpage").Rows() // page after page
	if err != nil {
		return fmt.Errorf("reading %s: %w", path, err)
	}
	defer rows.Close()
	n := 0
	var page blob
	into := []any{&page}
	for ; rows.Next(); n++ {
		if err := rows.Scan(into...); err != nil {
			return fmt.Errorf("reading %s: %w", path, err)
		}
		if err := take(page); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("reading %s: %w", path, err)
	}
	if n != pages {
		return fmt.Errorf("reading %s: %d of its %d pages came", path, n, pages)
	}
	return nil
}
