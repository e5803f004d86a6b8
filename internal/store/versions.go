package store

import (
	"cmp"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/series"
)

// Version is a series' definition as it was from a time on.
type Version struct {
	Since time.Time // zero: from the beginning
	series.Definition
}

// mostVersions of a series are kept; the oldest go first.
const mostVersions = 100

// writeVersions keeps the definitions that are about to be replaced, and from when on the new
// ones count, which a calibration may state, but where only labels changed, which come and go with messages. The caller holds
// the lock for writing, and the catalogue still has the old ones.
func (s *Store) writeVersions(tx *gorm.DB, changed []seriesRow) error {
	for _, row := range changed {
		before := s.catalogue.get(row.ID).Definition
		now := row.definition()
		if before.Labels = now.Labels; before == now {
			continue
		}
		var count int64
		if err := tx.Model(&versionRow{}).Where("series = ?", row.ID).Count(&count).Error; err != nil {
			return fmt.Errorf("counting the versions of %s: %w", row.Path, err)
		}
		since := s.judge.Now().UTC()
		if stated := calibrate.SinceIn(now.Calibration); now.Calibration != before.Calibration && !stated.IsZero() {
			since = stated // the new calibration is of readings from then on
		}
		versions := []Version{{since, now}}
		if count == 0 {
			versions = []Version{{time.Time{}, before}, versions[0]}
		}
		for _, v := range versions {
			text, err := json.Marshal(v.Definition)
			if err != nil {
				return err
			}
			if err := tx.Create(&versionRow{Series: row.ID, Since: unixNano(v.Since), Definition: text}).Error; err != nil {
				return fmt.Errorf("keeping the version of %s: %w", row.Path, err)
			}
		}
		if count >= mostVersions {
			err := tx.Exec("DELETE FROM versions WHERE series = ? AND id NOT IN (SELECT id FROM versions WHERE series = ? ORDER BY id DESC LIMIT ?)", row.ID, row.ID, mostVersions).Error
			if err != nil {
				return fmt.Errorf("dropping old versions of %s: %w", row.Path, err)
			}
		}
	}
	return nil
}

func unixNano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

// Versions are the definitions that a series has had, the newest first. One that never
// changed has one.
func (s *Store) Versions(of Series) ([]Version, error) {
	var rows []versionRow
	if err := s.reader.Where("series = ?", of.ID).Order("id desc").Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the versions of %s: %w", of.Path, err)
	}
	if len(rows) == 0 {
		return []Version{{Definition: of.Definition}}, nil
	}
	out := make([]Version, len(rows))
	for i, r := range rows {
		if r.Since != 0 {
			out[i].Since = time.Unix(0, r.Since).UTC()
		}
		if err := json.Unmarshal(r.Definition, &out[i].Definition); err != nil {
			return nil, fmt.Errorf("version %d of %s cannot be read: %w", r.ID, of.Path, err)
		}
		out[i].Definition.Path = cmp.Or(out[i].Definition.Path, of.Path)
	}
	return out, nil
}
