package outbox

import (
	"context"
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/core/marks"
)

// Verify looks whether the marks of what waits can be read, and are of series that there are.
func Verify(ctx context.Context, db *gorm.DB, known func(id uint32) bool, found func(uplink, text string)) error {
	var rows []marksRow
	if err := db.WithContext(ctx).Order("uplink, shard").Find(&rows).Error; err != nil {
		return fmt.Errorf("reading the marks: %w", err)
	}
	for _, r := range rows {
		all, err := marks.Decode(r.Data)
		if err != nil {
			found(r.Uplink, fmt.Sprintf("marks %d: %v", r.Shard, err))
			continue
		}
		for _, m := range all {
			if !known(m.Series) {
				found(r.Uplink, fmt.Sprintf("marks %d are of a series %d that is not defined", r.Shard, m.Series))
				break
			}
		}
	}
	return nil
}
