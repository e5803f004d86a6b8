package replica

import (
	"fmt"
	"time"

	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// gapRecord is a gap on the wire, see docs/replication.md.
type gapRecord struct {
	ID      string `cbor:"id"`
	Version uint64 `cbor:"version"`
	Removed bool   `cbor:"removed,omitempty"`
	Series  string `cbor:"series"`
	From    int64  `cbor:"from"`         // nanoseconds since 1970
	To      int64  `cbor:"to,omitempty"` // nanoseconds since 1970; 0: it goes on
	Of      string `cbor:"of,omitempty"`
	Cause   string `cbor:"cause"`
	Detail  string `cbor:"detail,omitempty"`
	Author  string `cbor:"author,omitempty"`
}

func gapsSince(from records.Gaps) func(uint64, int) ([]Record, error) {
	return func(change uint64, most int) ([]Record, error) {
		changed, err := from.Since(change, most)
		if err != nil {
			return nil, err
		}
		out := make([]Record, len(changed))
		for i, g := range changed {
			in := gapRecord{
				ID: g.UID, Version: g.Version, Removed: g.Removed, Series: string(g.Series), From: g.From.UnixNano(), Of: g.Of,
				Cause: string(g.Cause), Detail: g.Detail, Author: g.Author,
			}
			if !g.To.IsZero() {
				in.To = g.To.UnixNano()
			}
			text, err := wire.EncodeRecord(in)
			if err != nil {
				return nil, fmt.Errorf("encoding gap %d: %w", g.ID, err)
			}
			out[i] = Record{About: string(g.Series), Change: g.Change, Wire: text}
		}
		return out, nil
	}
}

func readGap(into records.Gaps) func(wire.Record, time.Time) (Incoming, error) {
	return func(in wire.Record, now time.Time) (Incoming, error) {
		var g gapRecord
		if err := wire.DecodeRecord(in, &g); err != nil {
			return Incoming{}, err
		}
		version := records.GapVersion{UID: g.ID, Version: g.Version, Removed: g.Removed}
		version.Gap = records.Gap{
			Series: series.Path(g.Series),
			From:   time.Unix(0, g.From).UTC(),
			Of:     g.Of,
			Cause:  gap.Cause(g.Cause),
			Detail: g.Detail,
			Author: g.Author,
		}
		if g.To != 0 {
			version.To = time.Unix(0, g.To).UTC()
		}
		return Incoming{ID: g.ID, About: g.Series, Take: into.Take(version)}, version.Check(now)
	}
}
