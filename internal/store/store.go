// Package store opens the store of a service: one SQLite file with the series engine, the
// outboxes of uplinks and small records in it. What each of them does is in its own package.
package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/removal"
	"nexocumula/internal/rename"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/fetched"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
)

// Store is one open store. All its methods may be used at the same time.
type Store struct {
	*engine.Engine
	records.Records
	Outboxes *outbox.Outboxes
	Removals *removal.Ranges
	Names    *rename.Names
	Fetched  *fetched.Fetched
	file     *sqlite.File
}

// Options configures a store. The zero value will do.
type Options struct {
	Clock clock.Clock   // time.Now
	Away  time.Duration // how long the service may have been switched off; clock.DefaultAway
}

// Open opens or creates the store in the file path.
func Open(path string, log *slog.Logger, options Options) (*Store, error) {
	file, err := sqlite.Open(path, log, sqlite.Options{Clock: options.Clock, Away: options.Away, Migrate: migrate})
	if err != nil {
		return nil, err
	}
	s, err := assemble(file)
	if err != nil {
		file.Abandon()
		return nil, err
	}
	return s, nil
}

func assemble(file *sqlite.File) (*Store, error) {
	kept, err := records.Open(file)
	if err != nil {
		return nil, file.Opening(err)
	}
	series, err := engine.Open(context.Background(), file, kept.Versions)
	if err != nil {
		return nil, err
	}
	removed, err := removal.NewRanges(kept.Gaps)
	if err != nil {
		return nil, file.Opening(err)
	}
	names, err := rename.Open(kept.Renames)
	if err != nil {
		return nil, file.Opening(err)
	}
	asked, err := fetched.Open(file)
	if err != nil {
		return nil, file.Opening(err)
	}
	boxes := outbox.Open(file, series, kept.Newest())
	boxes.TellGivenUp(func(uplink string, of marks.Of, from, to int64) {
		known, ok := series.Get(of.Series)
		if !ok {
			return
		}
		err := kept.Gaps.Add(records.Gap{
			Series: known.Path, From: time.Unix(0, from).UTC(), To: time.Unix(0, to).UTC(), Of: of.Tier.String(),
			Cause: gap.GivenUp, Detail: "not sent to " + uplink,
		})
		if err != nil {
			event.GapsUnkept.To(file.Log(), "error", err)
		}
	})
	kept.Announce(boxes.Wake)
	return &Store{Engine: series, Records: kept, Outboxes: boxes, Removals: removed, Names: names, Fetched: asked, file: file}, nil
}

// Unremoved returns summaries of a series that arrive, but for those of what was removed.
func (s *Store) Unremoved(def *series.Definition, tier series.Tier, rows column.Block) column.Block {
	return s.Removals.Without(def.Path, tier, rows, def.Kind)
}

// Rename gives series other paths for good; what comes under the old ones is theirs.
func (s *Store) Rename(all []records.Rename) error {
	renamings := make([]engine.Renaming, len(all))
	for i, one := range all {
		renamings[i] = engine.Renaming{Old: one.Old, New: one.New}
	}
	if err := s.Engine.Rename(renamings, s.Renames.Add(all)); err != nil {
		return err
	}
	s.Renames.Announce()
	if err := s.Removals.Renamed(); err != nil {
		return err
	}
	if err := s.Fetched.Renamed(); err != nil {
		return err
	}
	return s.Names.Refresh()
}

// ReadingsOf returns the first readings of a series within a time, at most so many, whether they were collected here or
// fetched.
func (s *Store) ReadingsOf(ctx context.Context, id uint32, from, to int64, most int) (column.Block, error) {
	known, ok := s.Get(id)
	if !ok {
		return column.Block{}, nil
	}
	if !known.Collected {
		rows, err := s.Fetched.Read(ctx, known.Path, from, to)
		return rows.Rows(0, min(rows.Len(), most)), err
	}
	first := &firstReadings{most: most, rows: column.New(1, 0)}
	err := s.Scan(ctx, id, engine.Wanted{Tier: series.Readings, From: from, To: to}, first)
	if errors.Is(err, errReadingsEnough) {
		err = nil
	}
	return first.rows, err
}

// firstReadings is a sink that takes so many readings and then ends the scan.
type firstReadings struct {
	most int
	rows column.Block
}

var errReadingsEnough = errors.New("these are readings enough")

func (f *firstReadings) Rows(b column.Block, _ int64) error {
	f.rows.Append(b.Rows(0, min(b.Len(), f.most-f.rows.Len())))
	if f.rows.Len() >= f.most {
		return errReadingsEnough
	}
	return nil
}

// Whole is never called because Cut is nil.
func (f *firstReadings) Whole(int64, int64, rollup.Summary) error { return nil }

// Revise takes notice of summaries that arrive: where one counts another number of readings than were fetched, these are
// not all.
func (s *Store) Revise(ctx context.Context, path series.Path, tier series.Tier, rows column.Block) error {
	if rows.Len() == 0 || tier == series.Readings || !s.Fetched.Any(path) {
		return nil
	}
	return s.Fetched.Revise(ctx, path, tier, rows.Times, rows.Cols[rollup.ColCount])
}

// TakeReadings keeps readings that arrive of a series, as far as they were asked for; nil when they were not.
func (s *Store) TakeReadings(path series.Path, rows column.Block) sqlite.Change {
	return s.Fetched.Take(path, rows)
}

// Called returns what a series is called now that was once called so.
func (s *Store) Called(path series.Path) series.Path { return s.Names.Of(path) }

// Path returns the store's file.
func (s *Store) Path() string { return s.file.Path() }

// Judge says what time it is, and whether that can be believed.
func (s *Store) Judge() *clock.Judge { return s.file.Judge() }

// Troubles lists the store's present faults, for display.
func (s *Store) Troubles() []string { return s.file.Troubles() }

// CommitTimes says how long transactions took since the start.
func (s *Store) CommitTimes() sqlite.Commits { return s.file.CommitTimes() }

// Space returns how many bytes the store's files have, and how many are free on its disk.
func (s *Store) Space() (used, free uint64) { return s.file.Space() }

// Damaged returns how many rows could not be read and were set aside, and how often
// something was missing at the start.
func (s *Store) Damaged() uint64 { return s.file.CountDamaged() }

// Missing says what the store as a whole was found to lack, at this start or an earlier one.
func (s *Store) Missing() ([]string, error) { return s.file.Missing() }

// State returns the named record; nil when it was never written.
func (s *Store) State(name string) ([]byte, error) { return s.file.State(name) }

// PutState writes the named record.
func (s *Store) PutState(name string, payload []byte) error { return s.file.PutState(name, payload) }

// Close closes the file. What Append returned for is on disk already.
func (s *Store) Close() error {
	s.Engine.Close()
	if err := s.file.Close(s.Commits()); err != nil {
		return fmt.Errorf("closing the store: %w", err)
	}
	return nil
}
