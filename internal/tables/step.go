// Package tables brings the tables of a database up to date, step by step.
package tables

import (
	"errors"
	"fmt"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// Step leads from the tables of one version to those of the next. It says itself what it makes, and does not follow
// today's models: it never changes once a database may have taken it. A property that is added to a model
// needs a step of its own.
type Step struct {
	ID      string // number and name, such as 0007-notes
	Changes []Change
}

// Change is one statement of a step.
type Change func(tx *gorm.DB) error

// Make returns the change that makes a table or an index.
func Make(statement string) Change { return Run(statement) }

// Run returns the change that a statement makes.
func Run(statement string) Change {
	return func(tx *gorm.DB) error { return tx.Exec(statement).Error }
}

// Add returns the change that adds a column, unless it is there.
func Add(table, name, definition string) Change {
	return func(tx *gorm.DB) error {
		var there int64 // the migrator's own answer takes a type for a name
		if err := tx.Raw("SELECT count(*) FROM pragma_table_info(?) WHERE name = ?", table, name).Scan(&there).Error; err != nil || there > 0 {
			return err
		}
		return tx.Exec(fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, name, definition)).Error
	}
}

// ErrNewer is returned by Migrate for a database that took a step which is not known here.
var ErrNewer = errors.New("the tables are of another version")

// Migrate takes the steps that a database has not taken yet, each in full or not at all.
func Migrate(db *gorm.DB, steps []Step) error {
	var all []*gormigrate.Migration
	for _, step := range steps {
		all = append(all, &gormigrate.Migration{ID: step.ID, Migrate: func(tx *gorm.DB) error {
			for _, change := range step.Changes {
				if err := change(tx); err != nil {
					return err
				}
			}
			return nil
		}})
	}
	options := *gormigrate.DefaultOptions
	options.UseTransaction, options.ValidateUnknownMigrations = true, true
	err := gormigrate.New(db, &options, all).Migrate()
	if errors.Is(err, gormigrate.ErrUnknownPastMigration) {
		return ErrNewer
	}
	return err
}
