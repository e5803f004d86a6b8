package store

import (
	"errors"
	"fmt"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// migrations lead from an empty file to today's tables, one step per version; steps
// that have been released are never changed.
var migrations = []*gormigrate.Migration{
	{
		ID: "0003-marks-and-sums",
		Migrate: func(tx *gorm.DB) error {
			return tx.AutoMigrate(&seriesRow{}, &journalRow{}, &chunkRow{}, &sketchRow{}, &damagedRow{}, &uplinkRow{}, &marksRow{}, &cursorRow{}, &rejectRow{}, &stateRow{})
		},
	},
	{
		ID:      "0004-names-of-states-and-pushes",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&seriesRow{}, &pushRow{}) },
	},
	{
		ID: "0005-calibrations-and-rules",
		Migrate: func(tx *gorm.DB) error {
			return tx.AutoMigrate(&seriesRow{}, &rejectRow{}, &versionRow{}, &rejectCountRow{})
		},
	},
	{
		ID:      "0006-tiers-and-thinning",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&seriesRow{}) },
	},
	{
		ID:      "0007-notes",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&noteRow{}) },
	},
	{
		ID: "0008-boards-and-outages",
		Migrate: func(tx *gorm.DB) error {
			return tx.AutoMigrate(&boardRow{}, &boardVersionRow{}, &outageRow{}, &waitingRow{}, &runRow{})
		},
	},
	{
		ID:      "0009-digests-of-pushes",
		Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&pushRow{}) },
	},
}

// migrate brings the tables up to date. A file that a newer program has written to, or
// one from before the first release, is refused: its rows mean something this one does
// not know.
func migrate(db *gorm.DB) error {
	options := *gormigrate.DefaultOptions
	options.UseTransaction = true
	options.ValidateUnknownMigrations = true
	if err := gormigrate.New(db, &options, migrations).Migrate(); err != nil {
		if errors.Is(err, gormigrate.ErrUnknownPastMigration) {
			return fmt.Errorf("the store was written by another version of nexocumula, newer than this one or from before its first release; use that version, or another folder")
		}
		return fmt.Errorf("bringing the store's tables up to date: %w", err)
	}
	return nil
}
