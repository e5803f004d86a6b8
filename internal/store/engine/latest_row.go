package engine

import (
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nexocumula/internal/core/thin"
	"nexocumula/internal/store/sqlite"
)

// latestRow holds what the catalogue knows of the values of 256 series, those whose ids begin with the
// same 24 bits, as of their last seal. A seal that is about many series writes few of these.
//
//	1 byte        version, 1
//	4 bytes       CRC-32C of what follows, little-endian
//	series after series, by id:
//	1 byte        the last 8 bits of the id
//	1 byte        1: its readings are here; 2: they were thinned
//	varint        oldest time of a row there ever was, ns
//	varint        time of the latest value, ns
//	8 bytes       the latest value, little-endian: its bits
//	if thinned:   varint until when, ns; uvarint readings that were asked about; uvarint those that were
//	              kept; 8 bytes the greatest error
type latestRow struct {
	ID      uint32 `gorm:"primaryKey;autoIncrement:false"` // of the series, divided by 256
	Payload []byte
}

func (latestRow) TableName() string { return "latest" }

const (
	latestVersion = 1
	latestHead    = 5
	latestGroup   = 256 // series in a row

	latestCollected = 1
	latestThinned   = 2
)

var errLatest = errors.New("the latest values of 256 series end early or make no sense")

// appendLatest adds a series to a payload.
func appendLatest(out []byte, s *Series) []byte {
	var flags byte
	if s.Collected {
		flags |= latestCollected
	}
	if s.ThinnedTo != 0 {
		flags |= latestThinned
	}
	out = append(out, byte(s.ID%latestGroup), flags)
	out = binary.AppendVarint(out, s.FirstSeen)
	out = binary.AppendVarint(out, s.LastTime)
	out = binary.LittleEndian.AppendUint64(out, math.Float64bits(s.LastValue))
	if s.ThinnedTo != 0 {
		out = binary.AppendVarint(out, s.ThinnedTo)
		out = binary.AppendUvarint(out, s.Thinned.Arrived)
		out = binary.AppendUvarint(out, s.Thinned.Kept)
		out = binary.LittleEndian.AppendUint64(out, math.Float64bits(s.Thinned.Worst))
	}
	return out
}

// latestOf makes the row of a group. thinned says what is not in the catalogue yet.
func (m *memory) latestOf(group uint32, thinned map[uint32]thinnedSeries) latestRow {
	out := append(make([]byte, 0, 32*latestGroup), latestVersion, 0, 0, 0, 0)
	for id := group * latestGroup; id < (group+1)*latestGroup; id++ {
		known := m.catalogue.get(id)
		if known == nil || known.hasNoValues() {
			continue
		}
		if t, ok := thinned[id]; ok {
			again := *known
			again.ThinnedTo, again.Thinned = t.ThinnedTo, t.Thinned
			known = &again
		}
		out = appendLatest(out, known)
	}
	binary.LittleEndian.PutUint32(out[1:], sqlite.Sum(out[latestHead:]))
	return latestRow{ID: group, Payload: out}
}

// each calls visit with what the row says of each series.
func (r *latestRow) each(visit func(Series)) error {
	if len(r.Payload) < latestHead || r.Payload[0] != latestVersion {
		return errLatest
	}
	left := r.Payload[latestHead:]
	if binary.LittleEndian.Uint32(r.Payload[1:]) != sqlite.Sum(left) {
		return errors.New("the latest values of 256 series do not match their checksum")
	}
	good := true
	took := func(n int) {
		if good = good && n > 0 && n <= len(left); good {
			left = left[n:]
		}
	}
	varint := func() int64 {
		v, n := binary.Varint(left)
		took(n)
		return v
	}
	uvarint := func() uint64 {
		v, n := binary.Uvarint(left)
		took(n)
		return v
	}
	number := func() float64 {
		if len(left) < 8 {
			good = false
			return 0
		}
		v := math.Float64frombits(binary.LittleEndian.Uint64(left))
		took(8)
		return v
	}
	for good && len(left) > 2 {
		s := Series{ID: r.ID*latestGroup + uint32(left[0]), Collected: left[1]&latestCollected != 0}
		thinned := left[1]&latestThinned != 0
		took(2)
		s.FirstSeen, s.LastTime, s.LastValue = varint(), varint(), number()
		if thinned {
			s.ThinnedTo = varint()
			s.Thinned = thin.Tally{Arrived: uvarint(), Kept: uvarint(), Worst: number()}
		}
		if good {
			visit(s)
		}
	}
	if !good || len(left) > 0 {
		return errLatest
	}
	return nil
}

// saveLatest writes what the catalogue knows of the values of series, and of those beside them. Should
// the journal stay, what it holds is taken in again, which changes nothing.
func (e *Engine) saveLatest(tx *gorm.DB, ids map[uint32]bool, thinned map[uint32]thinnedSeries) error {
	groups := map[uint32]bool{}
	for id := range ids {
		groups[id/latestGroup] = true
	}
	var rows []latestRow
	e.look(func(m *memory) {
		for _, group := range slices.Sorted(maps.Keys(groups)) {
			rows = append(rows, m.latestOf(group, thinned))
		}
	})
	if len(rows) == 0 {
		return nil
	}
	err := tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(rows, 100).Error
	if err != nil {
		return fmt.Errorf("writing the latest values: %w", err)
	}
	return nil
}
