package store

import (
	"errors"
	"fmt"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// steps lead from an empty file to today's tables, one for each version that changed them. A step says itself what it
// makes, and does not follow today's models: it never changes once a store may have taken it. A property that is added to a
// model needs a step of its own.
var steps = []struct {
	id      string
	changes []change
}{
	{"0003-marks-and-sums", []change{
		makes(`CREATE TABLE chunks (id integer, series integer, tier integer, first_at integer, last_at integer, row_count integer, steps integer, checksum integer, whole blob, step0 blob, step1 blob, part0 blob, part1 blob, part2 blob, part3 blob, PRIMARY KEY (id))`),
		makes(`CREATE TABLE cursors (name text, life text, stored integer, lives text, row_count integer, updated integer, session text, sent integer, retired text, dropped integer, status blob, PRIMARY KEY (name))`),
		makes(`CREATE TABLE damaged (id integer PRIMARY KEY AUTOINCREMENT, found integer, place text, reason text, series integer, tier integer, first_at integer, last_at integer, row_count integer, raw blob)`),
		makes(`CREATE TABLE journal (id integer, payload blob, PRIMARY KEY (id))`),
		makes(`CREATE TABLE marks (uplink text, shard integer, data blob, PRIMARY KEY (uplink, shard))`),
		makes(`CREATE TABLE rejects (id integer, time integer, source text, place text, reason text, raw blob, PRIMARY KEY (id))`),
		makes(`CREATE TABLE series (id integer, path text NOT NULL, kind text, unit text, fresh_for integer, wrap real, labels text, sketch numeric, collected numeric, first_seen integer, last_time integer, last_value real, checksum integer, PRIMARY KEY (id))`),
		makes(`CREATE TABLE sketches (series integer, start integer, data blob, PRIMARY KEY (series, start))`),
		makes(`CREATE TABLE states (name text, payload blob, PRIMARY KEY (name))`),
		makes(`CREATE TABLE uplinks (name text, tiers text, sweep_next integer, sweep_last integer, life text, stored integer, sent integer, acked_at integer, sessions text, given_up integer, PRIMARY KEY (name))`),
		makes(`CREATE INDEX chunks_place ON chunks(series, tier, first_at)`),
		makes(`CREATE UNIQUE INDEX idx_series_path ON series(path)`),
	}},
	{"0004-names-of-states-and-pushes", []change{
		adds("series", "states", "text NOT NULL DEFAULT ''"),
		makes(`CREATE TABLE pushes (request text, arrived integer, PRIMARY KEY (request))`),
		makes(`CREATE INDEX idx_pushes_arrived ON pushes(arrived)`),
	}},
	{"0005-calibrations-and-rules", []change{
		adds("rejects", "rule", "text NOT NULL DEFAULT ''"),
		adds("rejects", "series", "text NOT NULL DEFAULT ''"),
		adds("rejects", "value", "real"),
		adds("rejects", "text", "text NOT NULL DEFAULT ''"),
		adds("rejects", "unit", "text NOT NULL DEFAULT ''"),
		adds("rejects", "at", "integer NOT NULL DEFAULT 0"),
		adds("rejects", "replayed", "integer NOT NULL DEFAULT 0"),
		adds("series", "curve", "text NOT NULL DEFAULT ''"),
		adds("series", "normal", "text NOT NULL DEFAULT ''"),
		adds("series", "every", "integer NOT NULL DEFAULT 0"),
		makes(`CREATE TABLE reject_counts (hour integer, source text, rule text, row_count integer, PRIMARY KEY (hour, source, rule))`),
		makes(`CREATE TABLE versions (id integer PRIMARY KEY AUTOINCREMENT, series integer, since integer, definition blob)`),
		makes(`CREATE INDEX versions_place ON versions(series, since)`),
	}},
	{"0006-tiers-and-thinning", []change{
		adds("series", "tiers", "text NOT NULL DEFAULT ''"),
		adds("series", "thinning", "text NOT NULL DEFAULT ''"),
		adds("series", "thinned_to", "integer NOT NULL DEFAULT 0"),
		adds("series", "thinned", "integer NOT NULL DEFAULT 0"),
		adds("series", "kept", "integer NOT NULL DEFAULT 0"),
		adds("series", "worst", "real NOT NULL DEFAULT 0"),
	}},
	{"0007-notes", []change{
		makes(`CREATE TABLE notes (id integer PRIMARY KEY AUTOINCREMENT, at integer, about text, text text, author text, written integer)`),
		makes(`CREATE INDEX idx_notes_at ON notes(at)`),
	}},
	{"0008-boards-and-outages", []change{
		makes(`CREATE TABLE board_versions (board integer, version integer, title text, about text, author text, saved integer, removed numeric, content text, PRIMARY KEY (board, version))`),
		makes(`CREATE TABLE boards (id integer PRIMARY KEY AUTOINCREMENT, version integer, removed numeric, saved integer)`),
		makes(`CREATE TABLE outages (id integer PRIMARY KEY AUTOINCREMENT, link text, began integer, ended integer, reason text, waited integer, oldest integer, caught_up integer)`),
		makes(`CREATE TABLE runs (began integer, until integer, PRIMARY KEY (began))`),
		makes(`CREATE TABLE waiting (link text, at integer, rows_now integer, PRIMARY KEY (link, at))`),
		makes(`CREATE INDEX outages_link ON outages(link, began)`),
	}},
	{"0009-digests-of-pushes", []change{
		adds("pushes", "digest", "blob"),
	}},
	{"0010-places-that-boards-ask-for", []change{
		adds("board_versions", "asks", "text"), // stores that were made after 0008 may have it
	}},
}

// change is one statement of a step.
type change func(tx *gorm.DB) error

// makes returns the change that makes a table or an index.
func makes(statement string) change {
	return func(tx *gorm.DB) error { return tx.Exec(statement).Error }
}

// adds returns the change that adds a column, unless it is there.
func adds(table, name, definition string) change {
	return func(tx *gorm.DB) error {
		var there int64 // the migrator's own answer takes a type for a name
		if err := tx.Raw("SELECT count(*) FROM pragma_table_info(?) WHERE name = ?", table, name).Scan(&there).Error; err != nil || there > 0 {
			return err
		}
		return tx.Exec(fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s %s", table, name, definition)).Error
	}
}

// migrations returns the steps as the package that keeps count of them wants them.
func migrations() (out []*gormigrate.Migration) {
	for _, step := range steps {
		out = append(out, &gormigrate.Migration{ID: step.id, Migrate: func(tx *gorm.DB) error {
			for _, c := range step.changes {
				if err := c(tx); err != nil {
					return err
				}
			}
			return nil
		}})
	}
	return out
}

// migrate brings the tables up to date. A file that a newer program has written to, or
// one from before the first release, is refused: its rows mean something this one does
// not know.
func migrate(db *gorm.DB) error {
	options := *gormigrate.DefaultOptions
	options.UseTransaction = true
	options.ValidateUnknownMigrations = true
	if err := gormigrate.New(db, &options, migrations()).Migrate(); err != nil {
		if errors.Is(err, gormigrate.ErrUnknownPastMigration) {
			return fmt.Errorf("the store was written by another version of nexocumula, newer than this one or from before its first release; use that version, or another folder")
		}
		return fmt.Errorf("bringing the store's tables up to date: %w", err)
	}
	return nil
}
