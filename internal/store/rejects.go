package store

import (
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/core/reading"
)

// keepRejects is how many rejects are kept; the oldest go first. All are counted.
const keepRejects = 20_000

func (s *Store) writeRejects(tx *gorm.DB, rejects []reading.Reject) error {
	if len(rejects) == 0 {
		return nil
	}
	rows := make([]rejectRow, len(rejects))
	for i, r := range rejects {
		s.lastReject++
		rows[i] = rejectRow{ID: s.lastReject, Time: r.Time, Source: r.Source, Place: r.Place, Reason: r.Reason, Raw: r.Raw}
	}
	if err := tx.CreateInBatches(rows, 500).Error; err != nil {
		return fmt.Errorf("writing rejects: %w", err)
	}
	newest := rows[len(rows)-1].ID
	if newest <= keepRejects {
		return nil
	}
	if err := tx.Where("id <= ?", newest-keepRejects).Delete(&rejectRow{}).Error; err != nil {
		return fmt.Errorf("dropping the oldest rejects: %w", err)
	}
	return nil
}

// Rejects are the newest rejects, newest first, of one source or, when it is empty,
// of all.
func (s *Store) Rejects(source string, most int) ([]reading.Reject, error) {
	query := s.reader.Order("id desc").Limit(most)
	if source != "" {
		query = query.Where("source = ?", source)
	}
	var rows []rejectRow
	if err := query.Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("reading the rejects: %w", err)
	}
	out := make([]reading.Reject, len(rows))
	for i, r := range rows {
		out[i] = reading.Reject{Time: r.Time, Source: r.Source, Place: r.Place, Reason: r.Reason, Raw: r.Raw}
	}
	return out, nil
}
