package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nexocumula/internal/core/marks"
)

// Sketch is the sketch of one window of a series, rollup.Quarter wide.
type Sketch struct {
	Series uint32
	Start  int64
	Data   []byte // as package sketch writes it
}

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
func (s *Store) Sketches(series uint32, from, to int64, most int) ([]Sketch, error) {
	var rows []sketchRow
	if err := s.reader.Where("series = ? AND start >= ? AND start < ?", series, from, to).Order("start").Limit(most).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading sketches of series %d: %w", series, err)
	}
	out := make([]Sketch, len(rows))
	for i, r := range rows {
		out[i] = Sketch(r)
	}
	return out, nil
}

// DropSketches removes a series' sketches of windows that begin before a time, a day's
// worth or so at once.
func (s *Store) DropSketches(ctx context.Context, series uint32, before, giveUp time.Time) error {
	until := s.unsent(marks.Of{Series: series, Sketch: true}, before, giveUp)
	for ctx.Err() == nil {
		gone, err := s.dropSketches(series, until)
		if err != nil || gone == 0 {
			return err
		}
	}
	return ctx.Err()
}

func (s *Store) dropSketches(series uint32, before int64) (int64, error) {
	s.write.Lock()
	defer s.write.Unlock()
	done := s.db.Exec("DELETE FROM sketches WHERE series = ? AND start IN (SELECT start FROM sketches WHERE series = ? AND start < ? LIMIT ?)", series, series, before, dropAtOnce)
	return done.RowsAffected, done.Error
}
