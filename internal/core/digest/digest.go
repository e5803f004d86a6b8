// Package digest sums up rows of series, so that two stores can tell whether they hold the same without sending it.
// docs/replication.md has the formula.
package digest

import (
	"encoding/binary"
	"math"

	"github.com/cespare/xxhash/v2"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// Digest sums up rows: how many there are, and the sum of their hashes modulo 2⁶⁴. The order of rows does not matter.
type Digest struct {
	Rows uint64 `cbor:"rows"`
	Sum  uint64 `cbor:"sum"`
}

// Add adds the rows of another digest.
func (d *Digest) Add(o Digest) {
	d.Rows += o.Rows
	d.Sum += o.Sum
}

// AddHash adds a row.
func (d *Digest) AddHash(hash uint64) {
	d.Rows++
	d.Sum += hash
}

// Hasher hashes rows. It keeps memory from row to row.
type Hasher struct{ text []byte }

// Row returns the hash of a summary: XXH64 of the tier, the start and the values of its columns up to the last that is
// not 0, each as 8 bytes, little-endian.
func (h *Hasher) Row(tier series.Tier, rows column.Block, i int) uint64 {
	last := len(rows.Cols)
	for last > 0 && rows.Cols[last-1][i] == 0 {
		last--
	}
	h.text = binary.LittleEndian.AppendUint64(h.text[:0], uint64(tier))
	h.text = binary.LittleEndian.AppendUint64(h.text, uint64(rows.Times[i]))
	for _, col := range rows.Cols[:last] {
		v := col[i]
		switch {
		case v == 0:
			v = 0 // -0 too
		case math.IsNaN(v):
			v = math.NaN() // there is one
		}
		h.text = binary.LittleEndian.AppendUint64(h.text, math.Float64bits(v))
	}
	return xxhash.Sum64(h.text)
}

// Sketch returns the hash of a sketch: XXH64 of 0 and its start, each as 8 bytes, and its data.
func (h *Hasher) Sketch(start int64, data []byte) uint64 {
	h.text = binary.LittleEndian.AppendUint64(h.text[:0], 0)
	h.text = binary.LittleEndian.AppendUint64(h.text, uint64(start))
	h.text = append(h.text, data...)
	return xxhash.Sum64(h.text)
}

// Named returns the hash of a digest under a name: XXH64 of its rows, its sum, each as 8 bytes, and the name.
func (h *Hasher) Named(name string, d Digest) uint64 {
	h.text = binary.LittleEndian.AppendUint64(h.text[:0], d.Rows)
	h.text = binary.LittleEndian.AppendUint64(h.text, d.Sum)
	h.text = append(h.text, name...)
	return xxhash.Sum64(h.text)
}
