package engine

import (
	"fmt"
	"math"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// seriesRow is a series as the file has it. Column names are GORM's, snake_case of the field
// names, and none is a word that a database reserves.
type seriesRow struct {
	ID        uint32 `gorm:"primaryKey;autoIncrement:false"`
	Path      string `gorm:"uniqueIndex;not null"`
	Kind      string
	Unit      string
	FreshFor  int64 // nanoseconds
	Wrap      float64
	Labels    string
	Sketch    bool
	States    string  `gorm:"not null;default:''"`
	Curve     string  `gorm:"not null;default:''"` // calibration
	Normal    string  `gorm:"not null;default:''"`
	Every     int64   `gorm:"not null;default:0"` // nanoseconds
	Tiers     string  `gorm:"not null;default:''"`
	Thinning  string  `gorm:"not null;default:''"`
	ThinnedTo int64   `gorm:"not null;default:0"` // readings before it were thinned
	Thinned   int64   `gorm:"not null;default:0"` // readings that were asked about
	Kept      int64   `gorm:"not null;default:0"` // of these
	Worst     float64 `gorm:"not null;default:0"` // error of those that went
	Collected bool    // its readings are here, not only its summaries
	FirstSeen int64   // oldest time of a row there ever was, as of the last seal; 0 without rows
	LastTime  int64   // the latest value, as of the last seal; 0 without rows
	LastValue float64 //
	Checksum  uint32  // of all the above
}

func (seriesRow) TableName() string { return "series" }

func rowOf(known Series) *seriesRow {
	d := known.Definition
	row := &seriesRow{
		ID: known.ID, Path: string(d.Path), Kind: string(d.Kind), Unit: d.Unit, FreshFor: int64(d.FreshFor), Wrap: d.Wrap, Labels: string(d.Labels), Sketch: d.Sketch, States: string(d.States),
		Curve:     d.Calibration,
		Normal:    string(d.Normal),
		Every:     int64(d.Every),
		Tiers:     d.Tiers,
		Thinning:  d.Thinning,
		ThinnedTo: known.ThinnedTo,
		Thinned:   int64(known.Thinned.Arrived),
		Kept:      int64(known.Thinned.Kept),
		Worst:     known.Thinned.Worst,
		Collected: known.Collected, FirstSeen: known.FirstSeen, LastTime: known.LastTime, LastValue: known.LastValue,
	}
	row.complete()
	return row
}

func (r *seriesRow) definition() series.Definition {
	return series.Definition{
		Path: series.Path(r.Path), Kind: series.Kind(r.Kind), Unit: r.Unit,
		FreshFor: time.Duration(r.FreshFor), Wrap: r.Wrap, Labels: series.Labels(r.Labels), Sketch: r.Sketch, States: series.StateNames(r.States),
		Calibration: r.Curve, Normal: series.Normal(r.Normal), Every: time.Duration(r.Every), Tiers: r.Tiers, Thinning: r.Thinning,
	}
}

// update writes all of the row but path and kind, which never change.
func (r *seriesRow) update(tx *gorm.DB) error {
	return tx.Exec("UPDATE series SET unit = ?, fresh_for = ?, wrap = ?, labels = ?, sketch = ?, states = ?, curve = ?, normal = ?, every = ?, tiers = ?, "+
		"thinning = ?, thinned_to = ?, thinned = ?, kept = ?, worst = ?, collected = ?, first_seen = ?, last_time = ?, last_value = ?, checksum = ? WHERE id = ?",
		r.Unit, r.FreshFor, r.Wrap, r.Labels, r.Sketch, r.States, r.Curve, r.Normal, r.Every, r.Tiers,
		r.Thinning, r.ThinnedTo, r.Thinned, r.Kept, r.Worst, r.Collected, r.FirstSeen, r.LastTime, r.LastValue, r.Checksum, r.ID).Error
}

// complete makes the row ready to be written.
func (r *seriesRow) complete() {
	r.Wrap, r.LastValue, r.Worst = sqlite.AsStored(r.Wrap), sqlite.AsStored(r.LastValue), sqlite.AsStored(r.Worst)
	r.Checksum = r.sum()
}

func (r *seriesRow) sum() uint32 { return r.sumWith(r.Wrap, r.LastValue, r.Worst) }

// matches reports whether the row is as it was written. Earlier programs made sums of -0 as -0.
func (r *seriesRow) matches() bool {
	if r.Checksum == r.sum() {
		return true
	}
	minus := math.Copysign(0, -1)
	return r.LastValue == 0 && r.Checksum == r.sumWith(r.Wrap, minus, r.Worst)
}

func (r *seriesRow) sumWith(wrap, lastValue, worst float64) uint32 {
	text := fmt.Appendf(nil, "%d %q %q %q %d %x %q %t %t %d %d %x", r.ID, r.Path, r.Kind, r.Unit, r.FreshFor, wrap, r.Labels, r.Sketch, r.Collected, r.FirstSeen, r.LastTime, lastValue)
	if r.States != "" { // rows from before states had names have none in their sum
		text = fmt.Appendf(text, " %q", r.States)
	}
	if r.Curve != "" || r.Normal != "" || r.Every != 0 { // nor have those from before these
		text = fmt.Appendf(text, " %q %q %d", r.Curve, r.Normal, r.Every)
	}
	if r.Tiers != "" {
		text = fmt.Appendf(text, " tiers %q", r.Tiers)
	}
	if r.Thinning != "" || r.ThinnedTo != 0 {
		text = fmt.Appendf(text, " thinning %q %d %d %d %x", r.Thinning, r.ThinnedTo, r.Thinned, r.Kept, worst)
	}
	return sqlite.Sum(text)
}
