package sqlite

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
)

// pagesAtOnce is how many pages of a snapshot are asked for in one go.
const pagesAtOnce = 256

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
	for first := 1; first <= pages; first += pagesAtOnce {
		last := min(pages, first+pagesAtOnce-1)
		rows, err := moment.Raw("SELECT data FROM sqlite_dbpage WHERE pgno BETWEEN ? AND ? ORDER BY pgno", first, last).Rows()
		if err != nil {
			return fmt.Errorf("reading %s: %w", path, err)
		}
		n := 0
		for ; rows.Next(); n++ {
			var page blob
			if err := rows.Scan(&page); err != nil {
				return errors.Join(fmt.Errorf("reading %s: %w", path, err), rows.Close())
			}
			if err := take(page); err != nil {
				return errors.Join(err, rows.Close())
			}
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return fmt.Errorf("reading %s: %w", path, err)
		}
		if n != last-first+1 {
			return fmt.Errorf("reading %s: %d of the pages from %d to %d came", path, n, first, last)
		}
	}
	return nil
}
