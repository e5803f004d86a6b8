package sqlite

import (
	"fmt"
	"slices"

	"gorm.io/gorm"
)

// Patch is rows of one series and tier that came late, of times of chunks that were not written again for them.
// Its rows hide those of chunks and of patches with a lower id.
type Patch struct {
	ID       uint64 `gorm:"primaryKey;autoIncrement:false"`
	Series   uint32 `gorm:"index:patches_place,priority:1"`
	Tier     int64  `gorm:"index:patches_place,priority:2"` // nanoseconds; 0 is readings
	FirstAt  int64  // time of the first row
	LastAt   int64  // time of the last row
	Count    int    `gorm:"column:row_count"`
	Checksum uint32 // of all the above but the id; the payload has its own
	Payload  []byte // all columns
}

// TableName names the table.
func (Patch) TableName() string { return "patches" }

// Complete makes the row ready to be written.
func (p *Patch) Complete() { p.Checksum = p.sum() }

// Matches reports whether what stands beside the payload is as it was written.
func (p *Patch) Matches() bool { return p.Checksum == p.sum() }

// Damage returns a patch as it is set aside.
func (p Patch) Damage(cause error) Damaged {
	return Damaged{
		ID:      p.ID,
		Place:   "patches",
		Reason:  cause.Error(),
		Series:  p.Series,
		Tier:    p.Tier,
		FirstAt: p.FirstAt,
		LastAt:  p.LastAt,
		Count:   p.Count,
		Raw:     p.Payload,
	}
}

const (
	patchHead    = "id, series, tier, first_at, last_at, row_count, checksum"
	patchColumns = patchHead + ", payload"
)

func patchesOf(query *gorm.DB, payloads bool) (out []Patch, err error) {
	rows, err := query.Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var p Patch
		into := []any{&p.ID, &p.Series, &p.Tier, &p.FirstAt, &p.LastAt, &p.Count, &p.Checksum}
		if payloads {
			into = append(into, &p.Payload)
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, rows.Err()
}

// PatchesBetween returns the patches of a series and tier with rows of from <= time <= last, in the order of
// their ids.
func PatchesBetween(db *gorm.DB, series uint32, tier, from, last int64) ([]Patch, error) {
	return patchesOf(db.Raw("SELECT "+patchColumns+" FROM patches WHERE series = ? AND tier = ? AND first_at <= ? AND last_at >= ? ORDER BY id",
		series, tier, last, from), true)
}

// PatchesOfMany returns all such patches of many series, in the order of their ids.
func PatchesOfMany(db *gorm.DB, series []uint32, tier, from, last int64) ([]Patch, error) {
	return patchesOf(db.Raw("SELECT "+patchColumns+" FROM patches WHERE series IN ? AND tier = ? AND first_at <= ? AND last_at >= ? ORDER BY id",
		series, tier, last, from), true)
}

// PatchHeads returns the patches of a series and tier without payloads, in the order of their ids.
func PatchHeads(db *gorm.DB, series uint32, tier int64) ([]Patch, error) {
	return patchesOf(db.Raw("SELECT "+patchHead+" FROM patches WHERE series = ? AND tier = ? ORDER BY id", series, tier), false)
}

// PatchesAfter returns the patches that follow one, in the order of their ids.
func PatchesAfter(db *gorm.DB, id uint64, most int) ([]Patch, error) {
	return patchesOf(db.Raw("SELECT "+patchColumns+" FROM patches WHERE id > ? ORDER BY id LIMIT ?", id, most), true)
}

// PatchesOf returns those patches with the ids that are still there, in the order of their ids.
func PatchesOf(db *gorm.DB, ids []uint64) ([]Patch, error) {
	return patchesOf(db.Raw("SELECT "+patchColumns+" FROM patches WHERE id IN ? ORDER BY id", ids), true)
}

// PatchExtents calls visit with the first and the last time of the patches of each series and tier, and the
// highest id of all.
func PatchExtents(db *gorm.DB, visit func(at SeriesTier, first, last int64)) (highest uint64, err error) {
	rows, err := db.Raw("SELECT series, tier, min(first_at), max(last_at), max(id) FROM patches GROUP BY series, tier").Rows()
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var at SeriesTier
		var first, last int64
		var id uint64
		if err := rows.Scan(&at.Series, &at.Tier, &first, &last, &id); err != nil {
			return 0, err
		}
		highest = max(highest, id)
		visit(at, first, last)
	}
	return highest, rows.Err()
}

// ReplacePatches takes patches away and puts others there.
func ReplacePatches(tx *gorm.DB, old []uint64, fresh []Patch) error {
	for some := range slices.Chunk(old, 500) {
		if err := tx.Exec("DELETE FROM patches WHERE id IN ?", some).Error; err != nil {
			return fmt.Errorf("taking away patches: %w", err)
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	return tx.CreateInBatches(fresh, 100).Error
}
