package sqlite

import (
	"fmt"
	"time"

	"gorm.io/gorm"
)

// pageBytes is small, as every commit writes at least one page.
const pageBytes = 1024

const (
	giveBackMost   = 1024 // pages at a time
	giveBackLeast  = 16
	giveBackWithin = 10 * time.Millisecond // for which others may have to wait
	fewFreePages   = 1024
)

// FreeBytes returns how many bytes of the file nothing uses.
func FreeBytes(db *gorm.DB) (uint64, error) {
	var pages uint64
	err := db.Raw("PRAGMA freelist_count").Scan(&pages).Error
	return pages * pageBytes, err
}

// GiveBackPages returns free pages to the file system, a few at a time, but for those
// that so many bytes will soon take again.
//
// Each page that goes is looked for in the list of all that are free, so how long it takes grows with both.
func (w Writer) GiveBackPages(reserved int) error {
	var free int
	if err := w.DB().Raw("PRAGMA freelist_count").Scan(&free).Error; err != nil {
		return err
	}
	spare := free - fewFreePages - reserved/pageBytes
	if spare <= 0 {
		return nil
	}
	pages := max(w.file.giveBack, giveBackLeast)
	begun := time.Now()
	err := w.DB().Exec(fmt.Sprintf("PRAGMA incremental_vacuum(%d)", min(spare, pages))).Error
	switch took := time.Since(begun); {
	case took > giveBackWithin:
		pages /= 2
	case took < giveBackWithin/2:
		pages *= 2
	}
	w.file.giveBack = min(pages, giveBackMost)
	return err
}
