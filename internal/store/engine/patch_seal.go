package engine

import (
	"fmt"
	"math"
	"slices"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

const (
	patchable  = 32   // rows; a smaller chunk is written again with a late row, which costs no more
	growing    = 1024 // rows; a smaller chunk that is the last is, too, as it soon would be in any case
	patchShare = 8    // a chunk is written again when one in so many of its rows is late
)

// patching is what a part of a seal changes of patches.
type patching struct {
	old   []uint64
	fresh []sqlite.Patch
	now   map[seriesTier][]sqlite.Patch // those of a series and tier that there are then
}

// withoutPatched returns the rows that are not of the time of patches, and those that are.
func (r *renewal) withoutPatched(at seriesTier, rows column.Block) (rest, late column.Block) {
	of, ok := r.engine.patchedExtent(at)
	if !ok {
		return rows, late
	}
	i, k := rows.Search(of.first), upTo(rows, of.last)
	return column.Merge(rows.Rows(0, i), rows.Rows(max(i, k), rows.Len())), rows.Rows(i, max(i, k))
}

// upTo returns how many rows are of a time or before it.
func upTo(rows column.Block, last int64) int {
	if last == math.MaxInt64 {
		return rows.Len()
	}
	return rows.Search(last + 1)
}

// forPatch returns how many of the rows, which begin in a chunk, belong into a patch rather than into that chunk;
// last says that no chunk is after it.
func forPatch(c *sqlite.Chunk, last bool, rows column.Block) int {
	inside := upTo(rows, c.LastAt)
	if c.Count < patchable || last && c.Count < growing || inside*patchShare >= c.Count {
		return 0
	}
	return inside
}

// patch puts late rows into a patch, together with earlier ones of about its size. So a row is written
// again a few times only, and there are few patches of a series and tier.
func (r *renewal) patch(at seriesTier, late column.Block, def *series.Definition) error {
	have, err := sqlite.PatchHeads(r.db, at.series, int64(at.tier))
	if err != nil {
		return err
	}
	from := joined(have, late.Len())
	rows, err := r.replacePatches(have[from:], late)
	if err != nil {
		return fmt.Errorf("%s: %w", def.Path, err)
	}
	if from == 0 && len(have) > 0 {
		if rows, err = r.intoChunks(at, rows, def); err != nil {
			return err
		}
	}
	fresh, err := makePatches(at, rows)
	if err != nil {
		return fmt.Errorf("%s: %w", def.Path, err)
	}
	r.about(at.series)
	for i := range have[from:] {
		r.patches.old = append(r.patches.old, have[from+i].ID)
	}
	for i := range fresh {
		r.bytes += len(fresh[i].Payload)
	}
	r.patches.fresh = append(r.patches.fresh, fresh...)
	r.patches.now[at] = append(slices.Clone(have[:from]), fresh...)
	return nil
}

// joined returns from which of the patches on they are put together with so many new rows.
func joined(have []sqlite.Patch, rows int) (from int) {
	from = len(have)
	for from > 0 {
		n, sum := 0, 0
		for ; n < from && have[from-n-1].Count <= alikeMost*rows; n++ {
			sum += have[from-n-1].Count
		}
		if n < alike && !(n == from && sum <= rows) {
			return from
		}
		from, rows = from-n, rows+sum
	}
	return from
}

// replacePatches returns the rows of patches that go, under newer ones.
func (r *renewal) replacePatches(heads []sqlite.Patch, newer column.Block) (rows column.Block, err error) {
	if len(heads) == 0 {
		return newer, nil
	}
	ids := make([]uint64, len(heads))
	for i, h := range heads {
		ids[i] = h.ID
	}
	patches, err := sqlite.PatchesOf(r.db, ids)
	if err != nil {
		return rows, err
	}
	older, broken, err := mergedPatches(patches, rollup.NeedAll)
	r.broken = append(r.broken, broken...)
	return column.Merge(older, newer), err
}

// intoChunks writes those chunks again of which enough rows are late, and returns the rows that are left. Until the
// patches are replaced, which is after that, they hide what the chunks say, and say the same.
func (r *renewal) intoChunks(at seriesTier, late column.Block, def *series.Definition) (left column.Block, err error) {
	chunks, err := sqlite.ChunksBetween(r.db, at.series, int64(at.tier), late.Times[0], math.MaxInt64, nil, -1)
	if err != nil {
		return late, err
	}
	var dense column.Block
	for _, c := range chunks {
		k := late.Search(c.FirstAt)
		dense.Append(late.Rows(0, k)) // no chunk is of their time
		late = late.Rows(k, late.Len())
		if late.Len() == 0 {
			break
		}
		n := upTo(late, c.LastAt)
		if n*patchShare >= c.Count {
			dense.Append(late.Rows(0, n))
		} else {
			left.Append(late.Rows(0, n))
		}
		late = late.Rows(n, late.Len())
	}
	dense.Append(late)
	if dense.Len() == 0 {
		return left, nil
	}
	if err := r.put(); err != nil { // it may be about the same chunks
		return left, err
	}
	r.near.changed(at)
	return left, r.renewChunks(at, dense, def, nil)
}
