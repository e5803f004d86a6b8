package replica

import (
	"fmt"
	"time"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// renameRecord is a rename on the wire, see docs/replication.md.
type renameRecord struct {
	ID      string `cbor:"id"`
	Version uint64 `cbor:"version"` // 1: it never changes
	Old     string `cbor:"old"`
	New     string `cbor:"new"`
	At      int64  `cbor:"at"` // nanoseconds since 1970
	Author  string `cbor:"author"`
}

func renamesSince(from records.Renames) func(uint64, int) ([]Record, error) {
	return func(change uint64, most int) ([]Record, error) {
		all, err := from.Since(change, most)
		if err != nil {
			return nil, err
		}
		out := make([]Record, len(all))
		for i, one := range all {
			text, err := wire.EncodeRecord(renameRecord{
				one.UID, 1, string(one.Old), string(one.New), one.At.UnixNano(), one.Author,
			})
			if err != nil {
				return nil, fmt.Errorf("encoding that %s was renamed: %w", one.Old, err)
			}
			out[i] = Record{About: string(one.New), Change: one.Change, Wire: text}
		}
		return out, nil
	}
}

func readRename(rename Rename) func(wire.Record, time.Time) (Incoming, error) {
	return func(in wire.Record, now time.Time) (Incoming, error) {
		var r renameRecord
		if err := wire.DecodeRecord(in, &r); err != nil {
			return Incoming{}, err
		}
		one := records.Rename{
			UID: r.ID, Old: series.Path(r.Old), New: series.Path(r.New), At: time.Unix(0, r.At).UTC(), Author: r.Author,
		}
		return Incoming{ID: r.ID, About: r.New, Now: func() error { return rename([]records.Rename{one}) }}, one.Check(now)
	}
}
