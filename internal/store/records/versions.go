package records

import (
	"cmp"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Version is a series' definition as it was from a time on.
type Version struct {
	Since time.Time // zero: from the beginning
	series.Definition
}

// mostVersions of a series are kept; the oldest go first.
const mostVersions = 100

// versionRow is a definition as it was from a time on.
type versionRow struct {
	ID         uint64 `gorm:"primaryKey"`
	Series     uint32 `gorm:"index:versions_place,priority:1"`
	Since      int64  `gorm:"index:versions_place,priority:2"`
	Definition []byte // JSON
}

func (versionRow) TableName() string { return "versions" }

// Versions are the definitions that series had.
type Versions struct{ file *sqlite.File }

// Replaced keeps a definition that is replaced by another, and from when on that counts, which a
// calibration may state. It does nothing where only labels changed, which come and go with messages.
func (v Versions) Replaced(tx *gorm.DB, id uint32, before, after series.Definition, at time.Time) error {
	if before.Labels = after.Labels; before == after {
		return nil
	}
	var count int64
	if err := tx.Model(&versionRow{}).Where("series = ?", id).Count(&count).Error; err != nil {
		return fmt.Errorf("counting the versions of %s: %w", after.Path, err)
	}
	since := at.UTC()
	if stated := after.Calibration.Since(); after.Calibration != before.Calibration && !stated.IsZero() {
		since = stated // the new calibration is of readings from then on
	}
	versions := []Version{{since, after}}
	if count == 0 {
		versions = []Version{{time.Time{}, before}, versions[0]}
	}
	for _, one := range versions {
		text, err := json.Marshal(one.Definition)
		if err != nil {
			return err
		}
		if err := tx.Create(&versionRow{Series: id, Since: nanosOf(one.Since), Definition: text}).Error; err != nil {
			return fmt.Errorf("keeping the version of %s: %w", after.Path, err)
		}
	}
	if count < mostVersions {
		return nil
	}
	err := tx.Exec("DELETE FROM versions WHERE series = ? AND id NOT IN (SELECT id FROM versions WHERE series = ? ORDER BY id DESC LIMIT ?)",
		id, id, mostVersions).Error
	if err != nil {
		return fmt.Errorf("dropping old versions of %s: %w", after.Path, err)
	}
	return nil
}

// Of returns the definitions that a series has had, the newest first. One that never changed has
// one, the present.
func (v Versions) Of(id uint32, present series.Definition) ([]Version, error) {
	var rows []versionRow
	if err := v.file.Reader().Where("series = ?", id).Order("id desc").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the versions of %s: %w", present.Path, err)
	}
	if len(rows) == 0 {
		return []Version{{Definition: present}}, nil
	}
	out := make([]Version, len(rows))
	for i, r := range rows {
		out[i].Since = timeOf(r.Since)
		if err := json.Unmarshal(r.Definition, &out[i].Definition); err != nil {
			return nil, fmt.Errorf("version %d of %s cannot be read: %w", r.ID, present.Path, err)
		}
		out[i].Definition.Path = cmp.Or(out[i].Definition.Path, present.Path)
	}
	return out, nil
}
