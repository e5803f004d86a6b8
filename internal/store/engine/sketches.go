package engine

import (
	"context"
	"fmt"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Sketch is the sketch of one window of a series, series.Quarter wide.
type Sketch struct {
	Series uint32
	Start  int64
	Data   []byte // as package sketch writes it
}

// sketchRow estimates percentiles of a quarter of an hour of one series.
type sketchRow struct {
	Series uint32 `gorm:"primaryKey;autoIncrement:false"`
	Start  int64  `gorm:"primaryKey;autoIncrement:false"`
	Data   []byte
}

func (sketchRow) TableName() string { return "sketches" }

// writeSketches puts sketches in the place of those that were there.
func writeSketches(tx *gorm.DB, sketches []Sketch) error {
	if len(sketches) == 0 {
		return nil
	}
	rows := make([]sketchRow, len(sketches))
	for i, s := range sketches {
		rows[i] = sketchRow(s)
	}
	if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(rows, 200).Error; err != nil {
		return fmt.Errorf("writing sketches: %w", err)
	}
	return nil
}

// Sketches returns the sketches of a series with from <= start < to, in order, at most so many.
func (e *Engine) Sketches(ctx context.Context, series uint32, from, to int64, most int) ([]Sketch, error) {
	var rows []sketchRow
	err := e.file.Reader().WithContext(ctx).Where("series = ? AND start >= ? AND start < ?", series, from, to).Order("start").Limit(most).Find(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("reading sketches of series %d: %w", series, err)
	}
	out := make([]Sketch, len(rows))
	for i, r := range rows {
		out[i] = Sketch(r)
	}
	return out, nil
}
