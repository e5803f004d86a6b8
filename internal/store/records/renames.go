package records

import (
	"crypto/rand"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/series"
	"nexocumula/internal/plain"
	"nexocumula/internal/store/sqlite"
)

// Rename says that a series got another path. What comes under the old one is the new one's.
type Rename struct {
	UID    string // the same in all stores
	Old    series.Path
	New    series.Path
	At     time.Time
	Author string
	Change uint64 // number of the last change of renames in this store
}

type renameRow struct {
	ID     uint64 `gorm:"primaryKey"`
	UID    string `gorm:"column:uid;uniqueIndex:renames_uid"`
	Old    string
	New    string
	At     int64
	Author string
}

func (renameRow) TableName() string { return "renames" }

// Renames are the paths that series once had.
type Renames struct {
	file    *sqlite.File
	changed *announcement
}

// Add keeps renames in the transaction that the change becomes part of, but for those that are known; gaps and notes
// of the series go with them. Announce follows.
func (r Renames) Add(all []Rename) sqlite.Change {
	return func(tx *gorm.DB) error {
		for _, one := range all {
			if one.UID == "" {
				one.UID = rand.Text()
			}
			var known int64
			if err := tx.Model(&renameRow{}).Where("uid = ?", one.UID).Count(&known).Error; err != nil {
				return err
			}
			if known > 0 {
				continue
			}
			row := renameRow{UID: one.UID, Old: string(one.Old), New: string(one.New), At: one.At.UnixNano(), Author: one.Author}
			if err := tx.Create(&row).Error; err != nil {
				return fmt.Errorf("writing that %s is called %s: %w", one.Old, one.New, err)
			}
			if err := tx.Exec("UPDATE gaps SET series = ? WHERE series = ?", row.New, row.Old).Error; err != nil {
				return err
			}
			for _, table := range []string{"fetched", "fetched_spans"} {
				if err := tx.Exec("UPDATE "+table+" SET series = ? WHERE series = ?", row.New, row.Old).Error; err != nil {
					return err
				}
			}
			if err := tx.Exec("UPDATE notes SET about = ? WHERE about = ?", row.New, row.Old).Error; err != nil {
				return err
			}
		}
		return nil
	}
}

// Announce tells whoever sends renames that there are more.
func (r Renames) Announce() { r.changed.announce() }

// Newest returns the number of the last one.
func (r Renames) Newest() (change uint64, err error) {
	err = r.file.Reader().Model(&renameRow{}).Select("coalesce(max(id), 0)").Scan(&change).Error
	return change, err
}

// Since returns those after a change, in order, at most so many; fewer than 0 are all.
func (r Renames) Since(change uint64, most int) ([]Rename, error) {
	var rows []renameRow
	if err := r.file.Reader().Where("id > ?", change).Order("id").Limit(most).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading which series were renamed: %w", err)
	}
	out := make([]Rename, len(rows))
	for i, row := range rows {
		out[i] = Rename{row.UID, series.Path(row.Old), series.Path(row.New), timeOf(row.At), row.Author, row.ID}
	}
	return out, nil
}

func site(path series.Path) string {
	first, _, _ := strings.Cut(string(path), "/")
	return first
}

// Check says what is wrong with a rename of another store.
func (r Rename) Check(now time.Time) error {
	_, oldErr := series.ParsePath(string(r.Old))
	_, newErr := series.ParsePath(string(r.New))
	switch {
	case r.UID == "" || len(r.UID) > 64 || plain.CheckText(r.UID) != nil:
		return fmt.Errorf("its identity has %d bytes; 1 to 64 are possible", len(r.UID))
	case oldErr != nil:
		return oldErr
	case newErr != nil:
		return newErr
	case r.Old == r.New || site(r.Old) != site(r.New):
		return fmt.Errorf("%s cannot be called %s: the new name is another, of the same site", r.Old, r.New)
	case r.At.After(now.Add(366*24*time.Hour)) || len(r.Author) > longestAuthor:
		return fmt.Errorf("its time is %s and its author has %d bytes; at most next year and %d are possible", r.At.Format(time.RFC3339),
			len(r.Author), longestAuthor)
	}
	return plain.CheckText(r.Author)
}
