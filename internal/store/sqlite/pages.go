package sqlite

import "fmt"

// pageBytes is small, as every commit writes at least one page.
const pageBytes = 1024

const (
	giveBackAtOnce = 1024 // pages
	fewFreePages   = 1024
)

// GiveBackPages returns free pages to the file system, a few at a time, but for those
// that so many bytes will soon take again.
func (w Writer) GiveBackPages(reserved int) error {
	var free int
	if err := w.DB().Raw("PRAGMA freelist_count").Scan(&free).Error; err != nil {
		return err
	}
	spare := free - fewFreePages - reserved/pageBytes
	if spare <= 0 {
		return nil
	}
	return w.DB().Exec(fmt.Sprintf("PRAGMA incremental_vacuum(%d)", min(spare, giveBackAtOnce))).Error
}
