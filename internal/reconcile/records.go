package reconcile

import (
	"nexocumula/internal/core/digest"
	"nexocumula/internal/core/series"
	"nexocumula/internal/replica"
	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// RecordsDigest sums records up.
func RecordsDigest(all []wire.RecordState) (out digest.Digest) {
	var h digest.Hasher
	for _, r := range all {
		out.AddHash(h.Named(r.ID, digest.Digest{Rows: r.Version}))
	}
	return out
}

const recordsAtOnce = 2000

// States returns the records of a kind that are about some places.
func States(kind replica.RecordKind, about func(place string) bool) (out []wire.RecordState, err error) {
	for change := uint64(0); ; {
		some, err := kind.Since(change, recordsAtOnce)
		if err != nil {
			return nil, err
		}
		for _, r := range some {
			change = r.Change
			if !about(r.About) {
				continue
			}
			var state wire.RecordState
			if err := wire.DecodeRecord(r.Wire, &state); err != nil {
				return nil, err
			}
			if !state.Removed {
				out = append(out, state)
			}
		}
		if len(some) < recordsAtOnce {
			return out, nil
		}
	}
}

// Compared are the kinds of records that are compared.
var Compared = []string{records.NotesKind, records.GapsKind}

// OfSites returns what says whether a place is of one of some sites.
func OfSites(sites []string) func(place string) bool {
	of := map[string]bool{}
	for _, site := range sites {
		of[site] = true
	}
	return func(place string) bool { return of[series.Path(place).Site()] }
}
