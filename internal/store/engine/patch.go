package engine

import (
	"errors"
	"fmt"

	"gorm.io/gorm"

	"nexocumula/internal/core/chunk"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Late rows that fall into a large chunk do not make it be written again. A seal puts them into patches, small runs
// of their own, whose rows hide those of the chunks. Once there are enough of them for a chunk, it is written again
// with all of them.
//
// Where patches have rows, a later row goes into a patch too, which is newer and hides the others. So a chunk never
// has a newer row than a patch.

// extent is the time from the first row to the last.
type extent struct{ first, last int64 }

func (s extent) meets(first, last int64) bool { return s.first <= last && first <= s.last }

// with returns the extent of both.
func (s extent) with(o extent) extent { return extent{min(s.first, o.first), max(s.last, o.last)} }

// patchedExtent returns the time of a series and tier that patches are of; ok is false without any.
func (e *Engine) patchedExtent(at seriesTier) (of extent, ok bool) {
	e.look(func(m *memory) { of, ok = m.patched[at] })
	return of, ok
}

// patchedBetween returns the rows of patches with from <= time < to, and those patches that could not be read.
func (e *Engine) patchedBetween(db *gorm.DB, at seriesTier, from, to int64, need rollup.Need) (
	rows column.Block, broken []sqlite.Damaged, err error) {
	if of, ok := e.patchedExtent(at); !ok || from >= to || !of.meets(from, to-1) {
		return rows, nil, nil
	}
	patches, err := sqlite.PatchesBetween(db, at.series, int64(at.tier), from, to-1)
	if err != nil {
		return rows, nil, err
	}
	rows, broken, err = mergedPatches(patches, need)
	return rows.Between(from, to), broken, err
}

// mergedPatches returns the rows of patches in the order of their ids.
func mergedPatches(patches []sqlite.Patch, need rollup.Need) (rows column.Block, broken []sqlite.Damaged, err error) {
	for i := range patches {
		b, err := rowsOfPatch(&patches[i], need)
		switch {
		case errors.Is(err, chunk.ErrDamaged):
			broken = append(broken, patches[i].Damage(err))
		case err != nil:
			return rows, broken, fmt.Errorf("patch %d: %w", patches[i].ID, err)
		default:
			rows = column.Merge(rows, b)
		}
	}
	return rows, broken, nil
}

func rowsOfPatch(p *sqlite.Patch, need rollup.Need) (b column.Block, err error) {
	if !p.Matches() {
		return b, fmt.Errorf("%w: series, tier, times or count do not match their checksum", chunk.ErrDamaged)
	}
	packed, err := chunk.Open(p.Payload)
	if err != nil {
		return b, err
	}
	if packed.Len() != p.Count {
		return b, fmt.Errorf("%w: %d rows where the patch has %d", chunk.ErrDamaged, packed.Len(), p.Count)
	}
	if b.Times, err = packed.Times(nil); err != nil {
		return b, err
	}
	if p.Tier == int64(series.Readings) {
		need = rollup.NeedAll
	}
	var room *buffers
	return b, room.addColumns(&b, packed, 0, need)
}

// makePatches encodes rows of one series and tier.
func makePatches(at seriesTier, rows column.Block) (out []sqlite.Patch, err error) {
	for rows.Len() > 0 {
		some := rows.Rows(0, min(rows.Len(), fullChunk))
		p := sqlite.Patch{
			Series: at.series, Tier: int64(at.tier), FirstAt: some.Times[0], LastAt: some.Times[some.Len()-1], Count: some.Len(),
		}
		encode := chunk.Encode
		if some.Len() < quickRows {
			encode = chunk.EncodeQuick
		}
		if p.Payload, err = encode(some); err != nil {
			return nil, err
		}
		p.Complete()
		out = append(out, p)
		rows = rows.Rows(some.Len(), rows.Len())
	}
	return out, nil
}

// loadPatches reads where patches have rows.
func (e *Engine) loadPatches() error {
	patched := map[seriesTier]extent{}
	highest, err := sqlite.PatchExtents(e.file.Reader(), func(at sqlite.SeriesTier, first, last int64) {
		patched[seriesTier{at.Series, series.Tier(at.Tier)}] = extent{first, last}
	})
	if err != nil {
		return fmt.Errorf("reading which late rows there are: %w", err)
	}
	e.alter(func(m *memory) { m.patched = patched })
	return e.file.Write(func(w sqlite.Writer) error {
		e.numbers(w).nextPatch = highest
		return nil
	})
}

// extentOf returns the time that patches are of.
func extentOf(patches []sqlite.Patch) (of extent, ok bool) {
	for i, p := range patches {
		one := extent{p.FirstAt, p.LastAt}
		if i == 0 {
			of = one
		}
		of = of.with(one)
	}
	return of, len(patches) > 0
}

// patchedNow notes where patches of a series and tier have rows now.
func (m *memory) patchedNow(at seriesTier, patches []sqlite.Patch) {
	if of, ok := extentOf(patches); ok {
		m.patched[at] = of
	} else {
		delete(m.patched, at)
	}
}
