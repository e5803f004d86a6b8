// Package records keeps a service's small records beside its series: notes, gaps, boards, rejects,
// outages of links, earlier definitions, requests that may come again, and how far each
// gateway has come. Each kind has a repository of its own.
package records

import (
	"time"

	"nexocumula/internal/store/sqlite"
)

// Records are the repositories of one file.
type Records struct {
	Notes    Notes
	Gaps     Gaps
	Renames  Renames
	Requests Requests
	Boards   Boards
	Rejects  *Rejects
	Links    Links
	Versions Versions
	Pushes   Pushes
	Cursors  Cursors

	changed *announcement
}

// Open opens the repositories of a file.
func Open(file *sqlite.File) (Records, error) {
	rejects, err := newRejects(file)
	changed := &announcement{}
	return Records{
		changed: changed, Notes: Notes{file, changed}, Gaps: Gaps{file, changed}, Renames: Renames{file, changed}, Requests: Requests{file, changed}, Boards: Boards{file}, Rejects: rejects, Links: Links{file},
		Versions: Versions{file}, Pushes: Pushes{file}, Cursors: Cursors{file},
	}, err
}

// Names of the kinds of records that uplinks send.
const (
	NotesKind   = "notes"
	GapsKind    = "gaps"
	RenamesKind = "renames"
	AnswersKind = "answers"
)

// Newest returns, for each kind of records that uplinks send, what says its last change.
func (r Records) Newest() map[string]func() (uint64, error) {
	return map[string]func() (uint64, error){NotesKind: r.Notes.Newest, GapsKind: r.Gaps.Newest, RenamesKind: r.Renames.Newest, AnswersKind: r.Requests.Newest}
}

// nanosOf returns how a time stands in a table: nanoseconds since 1970, 0 when there is none.
func nanosOf(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

func timeOf(ns int64) time.Time {
	if ns == 0 {
		return time.Time{}
	}
	return time.Unix(0, ns).UTC()
}

// Tables returns the models of the tables that this package writes.
func Tables() []any {
	return []any{
		&boardRow{}, &boardVersionRow{}, &cursorRow{}, &outageRow{}, &waitingRow{}, &runRow{}, &noteRow{}, &gapRow{}, &renameRow{}, &requestRow{}, &pushRow{},
		&rejectRow{}, &rejectCountRow{}, &versionRow{},
	}
}
