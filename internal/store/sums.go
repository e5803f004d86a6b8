package store

import (
	"fmt"
	"hash/crc32"
	"math"
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// A flipped bit in the plain columns of a row would give its payload to another series
// or time, so each row has a checksum of them too: CRC-32C of their text.

//
// A sum is of what the database gives back, not of what it was given: of a float -0 becomes 0, and what is no
// number becomes NULL, which is read as 0.

// asStored returns what the database gives back for a float.
func asStored(f float64) float64 {
	if f == 0 || math.IsNaN(f) {
		return 0
	}
	return f
}

// complete makes the row ready to be written.
func (r *seriesRow) complete() {
	r.Wrap, r.LastValue, r.Worst = asStored(r.Wrap), asStored(r.LastValue), asStored(r.Worst)
	r.Checksum = r.sum()
}

func (r *seriesRow) sum() uint32 { return r.sumWith(r.Wrap, r.LastValue, r.Worst) }

// matches reports whether the row is as it was written. Earlier programs made sums of -0 as -0.
func (r *seriesRow) matches() bool {
	if r.Checksum == r.sum() {
		return true
	}
	minus := math.Copysign(0, -1)
	return r.LastValue == 0 && r.Checksum == r.sumWith(r.Wrap, minus, r.Worst)
}

func (r *seriesRow) sumWith(wrap, lastValue, worst float64) uint32 {
	text := fmt.Appendf(nil, "%d %q %q %q %d %x %q %t %t %d %d %x", r.ID, r.Path, r.Kind, r.Unit, r.FreshFor, wrap, r.Labels, r.Sketch, r.Collected, r.FirstSeen, r.LastTime, lastValue)
	if r.States != "" { // rows from before states had names have none in their sum
		text = fmt.Appendf(text, " %q", r.States)
	}
	if r.Curve != "" || r.Normal != "" || r.Every != 0 { // nor have those from before these
		text = fmt.Appendf(text, " %q %q %d", r.Curve, r.Normal, r.Every)
	}
	if r.Tiers != "" {
		text = fmt.Appendf(text, " tiers %q", r.Tiers)
	}
	if r.Thinning != "" || r.ThinnedTo != 0 {
		text = fmt.Appendf(text, " thinning %q %d %d %d %x", r.Thinning, r.ThinnedTo, r.Thinned, r.Kept, worst)
	}
	return crc32.Checksum(text, castagnoli)
}

func (c *chunkRow) sum() uint32 {
	return crc32.Checksum(fmt.Appendf(nil, "%d %d %d %d %d %d", c.Series, c.Tier, c.FirstAt, c.LastAt, c.Count, c.Steps), castagnoli)
}
