package engine

import (
	"encoding/json"
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// seriesRow is a series as the file has it. Column names are GORM's, snake_case of the field
// names, and none is a word that a database reserves.
type seriesRow struct {
	ID         uint32 `gorm:"primaryKey;autoIncrement:false"`
	Path       string `gorm:"uniqueIndex;not null"`
	Kind       string
	Definition string `gorm:"not null;default:''"` // JSON, without the path
	Checksum   uint32 // of all the above
}

func (seriesRow) TableName() string { return "series" }

func rowOf(known *Series) *seriesRow {
	d := known.Definition
	d.Path = ""
	text, err := json.Marshal(d)
	if err != nil {
		panic(fmt.Sprintf("the definition of %s cannot be written: %v", known.Path, err)) // its types always can
	}
	row := &seriesRow{ID: known.ID, Path: string(known.Path), Kind: string(d.Kind), Definition: string(text)}
	row.Checksum = row.sum()
	return row
}

// definition reads what the row says. Those that are written alike are read once: most series are like
// others.
func (r *seriesRow) definition(read map[string]series.Definition) (def series.Definition, err error) {
	if r.Checksum != r.sum() {
		return def, fmt.Errorf("the series' definition does not match its checksum")
	}
	def, known := read[r.Definition]
	if !known {
		if err := json.Unmarshal([]byte(r.Definition), &def); err != nil {
			return def, fmt.Errorf("the series' definition cannot be read: %w", err)
		}
		read[r.Definition] = def
	}
	def.Path = series.Path(r.Path)
	return def, nil
}

// update writes the definition; path and kind never change.
func (r *seriesRow) update(tx *gorm.DB) error {
	return tx.Exec("UPDATE series SET definition = ?, checksum = ? WHERE id = ?", r.Definition, r.Checksum, r.ID).Error
}

func (r *seriesRow) sum() uint32 {
	return sqlite.Sum(fmt.Appendf(nil, "%d %q %q %q", r.ID, r.Path, r.Kind, r.Definition))
}
