package replica

import (
	"fmt"
	"time"

	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
	"nexocumula/internal/wire"
)

// RecordKind is a kind of records that number their changes. Of two versions of a record the higher counts.
type RecordKind struct {
	Name string // on the wire
	// Since returns the records that changed after a change, in the order of their last changes.
	Since func(change uint64, most int) ([]Record, error)
	// Read checks a record of a sender, as of a time. What it returns is for Take, if there is no error.
	Read func(in wire.Record, now time.Time) (Incoming, error)
}

// Record is a record to be sent.
type Record struct {
	About  string // path of a site, or of something in it
	Change uint64
	Wire   wire.Record
	To     string // name of the uplink that alone sends it; "": all
}

// Incoming is a record that was received.
type Incoming struct {
	ID    string // the same in all stores
	About string
	Take  sqlite.Change // keeps it, unless this version of it is here, or a higher; nil: Now does
	Now   func() error  // what is done at once, before the rows of its batch are taken; may be nil
	After func()        // what is done once it is kept; may be nil
}

// Rename gives series other paths.
type Rename func(all []records.Rename) error

// Hooks are what is done with some records that arrive, besides keeping them. Who only sends needs none.
type Hooks struct {
	Rename   Rename
	Answered func(records.Request) // a gateway said how far a request has come
}

// Records returns the table of kinds.
func Records(kept records.Records, hooks Hooks) []RecordKind {
	return []RecordKind{
		{records.RenamesKind, renamesSince(kept.Renames), readRename(hooks.Rename)},
		{records.NotesKind, notesSince(kept.Notes), readNote(kept.Notes)},
		{records.GapsKind, gapsSince(kept.Gaps), readGap(kept.Gaps)},
		{records.AnswersKind, answersSince(kept.Requests), readAnswer(kept.Requests, hooks.Answered)},
	}
}

// note is a note on the wire, see docs/replication.md.
type note struct {
	ID      string `cbor:"id"`
	Version uint64 `cbor:"version"`
	Removed bool   `cbor:"removed,omitempty"`
	About   string `cbor:"about"`
	At      int64  `cbor:"at"` // nanoseconds since 1970
	Text    string `cbor:"text,omitempty"`
	Author  string `cbor:"author"`
	Written int64  `cbor:"written"` // nanoseconds since 1970
}

func notesSince(from records.Notes) func(uint64, int) ([]Record, error) {
	return func(change uint64, most int) ([]Record, error) {
		changed, err := from.Since(change, most)
		if err != nil {
			return nil, err
		}
		out := make([]Record, len(changed))
		for i, n := range changed {
			text, err := wire.EncodeRecord(note{
				n.UID, n.Version, n.Removed, n.About, n.At.UnixNano(), n.Text, n.Author, n.Written.UnixNano(),
			})
			if err != nil {
				return nil, fmt.Errorf("encoding note %d: %w", n.ID, err)
			}
			out[i] = Record{About: n.About, Change: n.Change, Wire: text}
		}
		return out, nil
	}
}

func readNote(into records.Notes) func(wire.Record, time.Time) (Incoming, error) {
	return func(in wire.Record, now time.Time) (Incoming, error) {
		var n note
		if err := wire.DecodeRecord(in, &n); err != nil {
			return Incoming{}, err
		}
		version := records.NoteVersion{UID: n.ID, Version: n.Version, Removed: n.Removed}
		version.Note = records.Note{
			About:   n.About,
			At:      time.Unix(0, n.At).UTC(),
			Text:    n.Text,
			Author:  n.Author,
			Written: time.Unix(0, n.Written).UTC(),
		}
		return Incoming{ID: n.ID, About: n.About, Take: into.Take([]records.NoteVersion{version})}, version.Check(now)
	}
}
