package engine

import (
	"encoding/json"
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/thin"
	"nexocumula/internal/store/sqlite"
)

// seriesRow is a series as the file has it. Column names are GORM's, snake_case of the field
// names, and none is a word that a database reserves.
type seriesRow struct {
	ID         uint32 `gorm:"primaryKey;autoIncrement:false"`
	Path       string `gorm:"uniqueIndex;not null"`
	Kind       string
	Definition string  `gorm:"not null;default:''"` // JSON, without the path
	ThinnedTo  int64   `gorm:"not null;default:0"`  // readings before it were thinned
	Thinned    int64   `gorm:"not null;default:0"`  // readings that were asked about
	Kept       int64   `gorm:"not null;default:0"`  // of these
	Worst      float64 `gorm:"not null;default:0"`  // error of those that went
	Collected  bool    // its readings are here, not only its summaries
	FirstSeen  int64   // oldest time of a row there ever was, as of the last seal; 0 without rows
	LastTime   int64   // the latest value, as of the last seal; 0 without rows
	LastValue  float64 //
	Checksum   uint32  // of all the above
}

func (seriesRow) TableName() string { return "series" }

func rowOf(known Series) *seriesRow {
	d := known.Definition
	d.Path = ""
	text, err := json.Marshal(d)
	if err != nil {
		panic(fmt.Sprintf("the definition of %s cannot be written: %v", known.Path, err)) // its types always can
	}
	row := &seriesRow{
		ID: known.ID, Path: string(known.Path), Kind: string(d.Kind), Definition: string(text),
		ThinnedTo: known.ThinnedTo, Thinned: int64(known.Thinned.Arrived), Kept: int64(known.Thinned.Kept), Worst: known.Thinned.Worst,
		Collected: known.Collected, FirstSeen: known.FirstSeen, LastTime: known.LastTime, LastValue: known.LastValue,
	}
	row.complete()
	return row
}

// series returns what the row says.
func (r *seriesRow) series() (*Series, error) {
	if r.Checksum != r.sum() {
		return nil, fmt.Errorf("the series' definition does not match its checksum")
	}
	known := &Series{
		ID: r.ID, Collected: r.Collected, FirstSeen: r.FirstSeen, LastTime: r.LastTime, LastValue: r.LastValue,
		ThinnedTo: r.ThinnedTo, Thinned: thin.Tally{Arrived: uint64(r.Thinned), Kept: uint64(r.Kept), Worst: r.Worst},
	}
	if err := json.Unmarshal([]byte(r.Definition), &known.Definition); err != nil {
		return nil, fmt.Errorf("the series' definition cannot be read: %w", err)
	}
	known.Path = series.Path(r.Path)
	return known, nil
}

// update writes all of the row but path and kind, which never change.
func (r *seriesRow) update(tx *gorm.DB) error {
	return tx.Exec("UPDATE series SET definition = ?, thinned_to = ?, thinned = ?, kept = ?, worst = ?, collected = ?, first_seen = ?, last_time = ?, last_value = ?, checksum = ? WHERE id = ?",
		r.Definition, r.ThinnedTo, r.Thinned, r.Kept, r.Worst, r.Collected, r.FirstSeen, r.LastTime, r.LastValue, r.Checksum, r.ID).Error
}

// complete makes the row ready to be written.
func (r *seriesRow) complete() {
	r.LastValue, r.Worst = sqlite.AsStored(r.LastValue), sqlite.AsStored(r.Worst)
	r.Checksum = r.sum()
}

func (r *seriesRow) sum() uint32 {
	return sqlite.Sum(fmt.Appendf(nil, "%d %q %q %q %d %d %d %x %t %d %d %x",
		r.ID, r.Path, r.Kind, r.Definition, r.ThinnedTo, r.Thinned, r.Kept, r.Worst, r.Collected, r.FirstSeen, r.LastTime, r.LastValue))
}
