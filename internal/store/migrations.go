package store

import (
	"errors"
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/tables"
)

// steps lead from an empty file to today's tables, one for each version that changed them.
var steps = []tables.Step{
	{ID: "0003-marks-and-sums", Changes: []tables.Change{
		tables.Make(`CREATE TABLE chunks (id integer, series integer, tier integer, first_at integer, last_at integer, row_count integer, steps integer, checksum integer, whole blob, step0 blob, step1 blob, part0 blob, part1 blob, part2 blob, part3 blob, PRIMARY KEY (id))`),
		tables.Make(`CREATE TABLE cursors (name text, life text, stored integer, lives text, row_count integer, updated integer, session text, sent integer, retired text, dropped integer, status blob, PRIMARY KEY (name))`),
		tables.Make(`CREATE TABLE damaged (id integer PRIMARY KEY AUTOINCREMENT, found integer, place text, reason text, series integer, tier integer, first_at integer, last_at integer, row_count integer, raw blob)`),
		tables.Make(`CREATE TABLE journal (id integer, payload blob, PRIMARY KEY (id))`),
		tables.Make(`CREATE TABLE marks (uplink text, shard integer, data blob, PRIMARY KEY (uplink, shard))`),
		tables.Make(`CREATE TABLE rejects (id integer, time integer, source text, place text, reason text, raw blob, PRIMARY KEY (id))`),
		tables.Make(`CREATE TABLE series (id integer, path text NOT NULL, kind text, unit text, fresh_for integer, wrap real, labels text, sketch numeric, collected numeric, first_seen integer, last_time integer, last_value real, checksum integer, PRIMARY KEY (id))`),
		tables.Make(`CREATE TABLE sketches (series integer, start integer, data blob, PRIMARY KEY (series, start))`),
		tables.Make(`CREATE TABLE states (name text, payload blob, PRIMARY KEY (name))`),
		tables.Make(`CREATE TABLE uplinks (name text, tiers text, sweep_next integer, sweep_last integer, life text, stored integer, sent integer, acked_at integer, sessions text, given_up integer, PRIMARY KEY (name))`),
		tables.Make(`CREATE INDEX chunks_place ON chunks(series, tier, first_at)`),
		tables.Make(`CREATE UNIQUE INDEX idx_series_path ON series(path)`),
	}},
	{ID: "0004-names-of-states-and-pushes", Changes: []tables.Change{
		tables.Add("series", "states", "text NOT NULL DEFAULT ''"),
		tables.Make(`CREATE TABLE pushes (request text, arrived integer, PRIMARY KEY (request))`),
		tables.Make(`CREATE INDEX idx_pushes_arrived ON pushes(arrived)`),
	}},
	{ID: "0005-calibrations-and-rules", Changes: []tables.Change{
		tables.Add("rejects", "rule", "text NOT NULL DEFAULT ''"),
		tables.Add("rejects", "series", "text NOT NULL DEFAULT ''"),
		tables.Add("rejects", "value", "real"),
		tables.Add("rejects", "text", "text NOT NULL DEFAULT ''"),
		tables.Add("rejects", "unit", "text NOT NULL DEFAULT ''"),
		tables.Add("rejects", "at", "integer NOT NULL DEFAULT 0"),
		tables.Add("rejects", "replayed", "integer NOT NULL DEFAULT 0"),
		tables.Add("series", "curve", "text NOT NULL DEFAULT ''"),
		tables.Add("series", "normal", "text NOT NULL DEFAULT ''"),
		tables.Add("series", "every", "integer NOT NULL DEFAULT 0"),
		tables.Make(`CREATE TABLE reject_counts (hour integer, source text, rule text, row_count integer, PRIMARY KEY (hour, source, rule))`),
		tables.Make(`CREATE TABLE versions (id integer PRIMARY KEY AUTOINCREMENT, series integer, since integer, definition blob)`),
		tables.Make(`CREATE INDEX versions_place ON versions(series, since)`),
	}},
	{ID: "0006-tiers-and-thinning", Changes: []tables.Change{
		tables.Add("series", "tiers", "text NOT NULL DEFAULT ''"),
		tables.Add("series", "thinning", "text NOT NULL DEFAULT ''"),
		tables.Add("series", "thinned_to", "integer NOT NULL DEFAULT 0"),
		tables.Add("series", "thinned", "integer NOT NULL DEFAULT 0"),
		tables.Add("series", "kept", "integer NOT NULL DEFAULT 0"),
		tables.Add("series", "worst", "real NOT NULL DEFAULT 0"),
	}},
	{ID: "0007-notes", Changes: []tables.Change{
		tables.Make(`CREATE TABLE notes (id integer PRIMARY KEY AUTOINCREMENT, at integer, about text, text text, author text, written integer)`),
		tables.Make(`CREATE INDEX idx_notes_at ON notes(at)`),
	}},
	{ID: "0008-boards-and-outages", Changes: []tables.Change{
		tables.Make(`CREATE TABLE board_versions (board integer, version integer, title text, about text, author text, saved integer, removed numeric, content text, PRIMARY KEY (board, version))`),
		tables.Make(`CREATE TABLE boards (id integer PRIMARY KEY AUTOINCREMENT, version integer, removed numeric, saved integer)`),
		tables.Make(`CREATE TABLE outages (id integer PRIMARY KEY AUTOINCREMENT, link text, began integer, ended integer, reason text, waited integer, oldest integer, caught_up integer)`),
		tables.Make(`CREATE TABLE runs (began integer, until integer, PRIMARY KEY (began))`),
		tables.Make(`CREATE TABLE waiting (link text, at integer, rows_now integer, PRIMARY KEY (link, at))`),
		tables.Make(`CREATE INDEX outages_link ON outages(link, began)`),
	}},
	{ID: "0009-digests-of-pushes", Changes: []tables.Change{
		tables.Add("pushes", "digest", "blob"),
	}},
	{ID: "0010-places-that-boards-ask-for", Changes: []tables.Change{
		tables.Add("board_versions", "asks", "text"), // stores that were made after 0008 may have it
	}},
	{ID: "0011-peers-of-uplinks", Changes: []tables.Change{ // each kind of uplink says itself what it knows of its peer
		tables.Add("uplinks", "peer", "text NOT NULL DEFAULT ''"),
		tables.Run(`UPDATE uplinks SET peer = json_object('life', life, 'stored', stored, 'sessions', json(CASE WHEN sessions = '' THEN '[]' ELSE '["' || replace(sessions, ' ', '","') || '"]' END))`),
		tables.Run(`ALTER TABLE uplinks DROP COLUMN life`),
		tables.Run(`ALTER TABLE uplinks DROP COLUMN stored`),
		tables.Run(`ALTER TABLE uplinks DROP COLUMN sessions`),
	}},
	{ID: "0012-notes-that-travel", Changes: []tables.Change{
		tables.Add("uplinks", "sent_records", "text NOT NULL DEFAULT ''"),
		tables.Add("notes", "uid", "text NOT NULL DEFAULT ''"),
		tables.Add("notes", "version", "integer NOT NULL DEFAULT 1"),
		tables.Add("notes", "removed", "numeric NOT NULL DEFAULT false"),
		tables.Add("notes", "change", "integer NOT NULL DEFAULT 0"),
		tables.Run(`UPDATE notes SET uid = hex(randomblob(16)), change = id`),
		tables.Make(`CREATE UNIQUE INDEX notes_uid ON notes(uid)`),
		tables.Make(`CREATE INDEX notes_change ON notes(change)`),
	}},
	{ID: "0013-definitions-and-latest-values", Changes: []tables.Change{
		tables.Add("series", "definition", "text NOT NULL DEFAULT ''"),
		tables.Make(`CREATE TABLE latest (id integer, payload blob, PRIMARY KEY (id))`),
		joinProperties,
		renameInVersions,
	}},
	{ID: "0014-patches", Changes: []tables.Change{
		tables.Make(`CREATE TABLE patches (id integer, series integer, tier integer, first_at integer, last_at integer, row_count integer, checksum integer, payload blob, PRIMARY KEY (id))`),
		tables.Make(`CREATE INDEX patches_place ON patches(series, tier)`),
	}},
	{ID: "0015-gaps", Changes: []tables.Change{
		tables.Make(`CREATE TABLE gaps (id integer PRIMARY KEY AUTOINCREMENT, series text, began integer, ended integer, what text, cause text, detail text, author text, uid text, version integer, removed numeric, change integer, applied numeric)`),
		tables.Make(`CREATE INDEX gaps_series ON gaps(series, began)`),
		tables.Make(`CREATE UNIQUE INDEX gaps_uid ON gaps(uid)`),
		tables.Make(`CREATE INDEX gaps_change ON gaps(change)`),
	}},
	{ID: "0016-renames", Changes: []tables.Change{
		tables.Make(`CREATE TABLE renames (id integer PRIMARY KEY AUTOINCREMENT, uid text, old text, new text, at integer, author text)`),
		tables.Make(`CREATE UNIQUE INDEX renames_uid ON renames(uid)`),
	}},
	{ID: "0017-requests", Changes: []tables.Change{
		tables.Add("uplinks", "selects", "text NOT NULL DEFAULT ''"),
		tables.Make(`CREATE TABLE requests (id integer PRIMARY KEY AUTOINCREMENT, uid text, site text, kind text, author text, made integer, expires integer, body blob, came_by text, goes_to text, session text, state text, version integer, progress real, detail text, answer blob, changed integer, change integer)`),
		tables.Make(`CREATE UNIQUE INDEX requests_uid ON requests(uid)`),
		tables.Make(`CREATE INDEX requests_state ON requests(state)`),
		tables.Make(`CREATE INDEX requests_change ON requests(change)`),
		tables.Make(`CREATE TABLE fetched (id integer PRIMARY KEY AUTOINCREMENT, series text, first_at integer, last_at integer, row_count integer, until integer, checksum integer, payload blob)`),
		tables.Make(`CREATE INDEX fetched_place ON fetched(series, first_at)`),
		tables.Make(`CREATE TABLE fetched_spans (id integer PRIMARY KEY AUTOINCREMENT, series text, began integer, ended integer, until integer, complete numeric, request text)`),
		tables.Make(`CREATE INDEX fetched_spans_place ON fetched_spans(series, began)`),
		tables.Make(`CREATE INDEX fetched_spans_request ON fetched_spans(request)`),
	}},
	{ID: "0018-live", Changes: []tables.Change{
		tables.Add("fetched_spans", "live", "numeric NOT NULL DEFAULT 0"),
	}},
}

// migrate brings the tables up to date. A file that a newer program has written to, or
// one from before the first release, is refused: its rows mean something this one does
// not know.
func migrate(db *gorm.DB) error {
	err := tables.Migrate(db, steps)
	switch {
	case errors.Is(err, tables.ErrNewer):
		return fmt.Errorf("the store was written by another version of nexocumula, newer than this one or from before its first release; use that version, or another folder")
	case err != nil:
		return fmt.Errorf("bringing the store's tables up to date: %w", err)
	}
	return nil
}
