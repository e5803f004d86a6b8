package wire

import (
	"fmt"

	"nexocumula/internal/core/digest"
	"nexocumula/internal/core/series"
)

// ComparePath is where a central compares what it holds with what a gateway says that it holds.
const ComparePath = Path + "/compare"

// Compare asks a central, from the whole to single rows, where its rows differ. Each call asks one thing.
type Compare struct {
	Gateway string         `cbor:"gateway"`
	Scopes  []Scope        `cbor:"scopes"`            // what is compared
	All     *digest.Digest `cbor:"all,omitempty"`     // of all series: of their digests under their paths
	Series  *SeriesRange   `cbor:"series,omitempty"`  // which series differ
	Days    []SeriesDays   `cbor:"days,omitempty"`    // which days of series
	Rows    []DayRows      `cbor:"rows,omitempty"`    // which rows of days
	Records []RecordList   `cbor:"records,omitempty"` // which records
}

// Scope is a tier and the time that is compared of it: windows that start within. Tier 0 are sketches.
type Scope struct {
	Tier int64 `cbor:"tier"`
	From int64 `cbor:"from"` // the begin of a day in UTC, nanoseconds since 1970
	To   int64 `cbor:"to"`   // not included
}

// SeriesRange is all series that a gateway sends with from <= path, and path < To where To is not empty.
type SeriesRange struct {
	From   string         `cbor:"from"`
	To     string         `cbor:"to"`
	Only   bool           `cbor:"only,omitempty"` // an uplink does not send all series of its sites: others are not missed
	Series []SeriesDigest `cbor:"series"`
}

// SeriesDigest sums up a series.
type SeriesDigest struct {
	Path       string        `cbor:"path"`
	Definition uint64        `cbor:"definition"`
	Rows       digest.Digest `cbor:"rows"`
}

// SeriesDays sums up a tier of a series day by day.
type SeriesDays struct {
	Path string      `cbor:"path"`
	Tier int64       `cbor:"tier"`
	Days []DayDigest `cbor:"days"` // those that have rows, in order
}

// DayDigest sums up a day in UTC.
type DayDigest struct {
	Day  int64         `cbor:"day"` // its begin, nanoseconds since 1970
	Rows digest.Digest `cbor:"rows"`
}

// DayRows are the hashes of the rows of a day.
type DayRows struct {
	Path   string   `cbor:"path"`
	Tier   int64    `cbor:"tier"`
	Day    int64    `cbor:"day"`
	Starts int64s   `cbor:"starts"`
	Hashes []uint64 `cbor:"hashes"`
}

// RecordList has the records of a kind by identity, in order of these.
type RecordList struct {
	Kind    string        `cbor:"kind"`
	Digest  digest.Digest `cbor:"digest"`
	Records []RecordState `cbor:"records,omitempty"`
	Extra   []RecordState `cbor:"extra,omitempty"` // of an answer: that only the central has
}

// RecordState is a record in a version.
type RecordState struct {
	ID      string `cbor:"id"`
	Version uint64 `cbor:"version"`
	Removed bool   `cbor:"removed,omitempty"` // such a record is not compared
}

// Compared is the answer.
type Compared struct {
	Scopes  []Scope      `cbor:"scopes"` // narrower than asked, and nothing else: of the rest the central keeps less; ask again
	Equal   bool         `cbor:"equal"`  // all that was asked about is the same
	Series  []string     `cbor:"series,omitempty"`
	Defined []string     `cbor:"defined,omitempty"` // series of which the definition is another
	Extra   []string     `cbor:"extra,omitempty"`   // series that only the central has
	Days    []SeriesDays `cbor:"days,omitempty"`    // that differ, as the central has them
	Rows    []Difference `cbor:"rows,omitempty"`
	Records []RecordList `cbor:"records,omitempty"` // kinds that differ, with the records that are missing or older
}

// Difference is a row that differs.
type Difference struct {
	Path  string  `cbor:"path"`
	Tier  int64   `cbor:"tier"`
	Start int64   `cbor:"start"`
	What  string  `cbor:"what"`
	Count float64 `cbor:"count,omitempty"` // readings that the central's counts
}

// What differs of a row, as its gateway sees it.
const (
	Missing = "missing" // the central does not have it
	Changed = "changed" // the central has another
	Fuller  = "fuller"  // the central has one that counts more readings; it says changed, and the gateway knows better
	Extra   = "extra"   // only the central has it
)

// EncodeCompare writes a comparison or its answer.
func EncodeCompare(v any) ([]byte, error) { return encoding.Marshal(v) }

// DecodeCompare reads one.
func DecodeCompare(data []byte, into any) error {
	if err := decoding.Unmarshal(data, into); err != nil {
		return fmt.Errorf("comparison is not as docs/replication.md has it: %w", err)
	}
	return nil
}

// DefinitionText returns what a definition says to a central that gets some tiers of its series, a line for each key; nil: all
// tiers there are.
func DefinitionText(def series.Definition, tiers []series.Tier) string {
	here := def.Tiers
	if tiers != nil {
		sent := make([]int64, len(tiers))
		for i, t := range tiers {
			sent[i] = int64(t)
		}
		if some, err := tiersHere(def.Tiers.String(), sent); err == nil {
			here = some
		}
	}
	return fmt.Sprintf("%s\n%s\n%d\n%v\n%s\n%s\n%s\n%s\n%d\n%s\n%v\n", def.Kind, def.Unit, int64(def.FreshFor), def.Wrap, def.Labels, def.States,
		def.Calibration, def.Normal, int64(def.Every), here, def.Sketch)
}
