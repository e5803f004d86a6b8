package sqlite

import (
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/event"
)

// Damaged is a row that could not be read, set aside as it was found, or a note of missing data.
type Damaged struct {
	ID      uint64 `gorm:"primaryKey"`
	Found   int64
	Place   string // the table it stood in; "store" for what the store as a whole lacks
	Reason  string
	Series  uint32
	Tier    int64
	FirstAt int64
	LastAt  int64
	Count   int    `gorm:"column:row_count"`
	Raw     []byte // all payloads, one after the other
}

// TableName names the table.
func (Damaged) TableName() string { return "damaged" }

// CountDamaged returns how many rows could not be read and were set aside, and how often
// something was missing at the start.
func (f *File) CountDamaged() uint64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.damaged
}

func (f *File) countDamaged() error {
	var n int64
	if err := f.db.Model(&Damaged{}).Count(&n).Error; err != nil {
		return fmt.Errorf("counting what is damaged: %w", err)
	}
	f.damaged = uint64(n)
	return nil
}

// miss records what the store as a whole lacks.
func (f *File) miss(reasons []string) error {
	for _, reason := range reasons {
		event.StoreIncomplete.To(f.log, "missing", reason)
		if err := f.db.Create(&Damaged{
			Place:  "store",
			Found:  f.judge.Now().UnixNano(),
			Reason: reason,
		}).Error; err != nil {
			return fmt.Errorf("noting what is missing: %w", err)
		}
	}
	return nil
}

// Missing says what the store as a whole was found to lack, at this start or an earlier one.
func (f *File) Missing() ([]string, error) {
	var out []string
	err := f.reader.Model(&Damaged{}).Where("place = ?", "store").Order("id").Pluck("reason", &out).Error
	if err != nil {
		return nil, fmt.Errorf("reading what is missing: %w", err)
	}
	return out, nil
}

// SetAside moves rows that cannot be read out of their tables, for whoever can mend
// them. They come with the id they have there.
func (w Writer) SetAside(broken []Damaged) error {
	f := w.file
	for _, b := range broken {
		event.RowSetAside.To(f.log, "table", b.Place, "id", b.ID, "series", b.Series,
			"rows", b.Count, "error", b.Reason)
	}
	moved := 0
	err := w.Transaction(func(tx *gorm.DB) error {
		moved = 0
		for _, b := range broken {
			gone := tx.Table(b.Place).Where("id = ?", b.ID).Delete(nil)
			if gone.Error != nil {
				return gone.Error
			}
			if gone.RowsAffected == 0 {
				continue // someone else was first
			}
			moved++
			b.ID, b.Found = 0, f.judge.Now().UnixNano()
			if err := tx.Create(&b).Error; err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("setting damaged rows aside: %w", err)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.damaged += uint64(moved)
	return nil
}

// SetAside is Writer.SetAside for who has no Writer; without rows it does nothing.
func (f *File) SetAside(broken []Damaged) error {
	if len(broken) == 0 {
		return nil
	}
	return f.Write(func(w Writer) error { return w.SetAside(broken) })
}

// Mended takes notes of damage away that is damage no more, in the transaction that puts it right.
// Call CountMended when that is on disk.
func Mended(tx *gorm.DB, records []uint64) error {
	if len(records) == 0 {
		return nil
	}
	return tx.Delete(&Damaged{}, records).Error
}

// CountMended counts notes of damage that were taken away.
func (f *File) CountMended(records int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.damaged -= uint64(records)
}

// SetAsideOf returns what was set aside of a table, in the order in which it was found.
func (f *File) SetAsideOf(table string) (out []Damaged, err error) {
	err = f.reader.Where("place = ?", table).Order("id").Find(&out).Error
	return out, err
}
