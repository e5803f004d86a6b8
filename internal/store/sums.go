package store

import (
	"fmt"
	"hash/crc32"
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// A flipped bit in the plain columns of a row would give its payload to another series
// or time, so each row has a checksum of them too: CRC-32C of their text.

func (r *seriesRow) sum() uint32 {
	text := fmt.Appendf(nil, "%d %q %q %q %d %x %q %t %t %d %d %x", r.ID, r.Path, r.Kind, r.Unit, r.FreshFor, r.Wrap, r.Labels, r.Sketch, r.Collected, r.FirstSeen, r.LastTime, r.LastValue)
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
		text = fmt.Appendf(text, " thinning %q %d %d %d %x", r.Thinning, r.ThinnedTo, r.Thinned, r.Kept, r.Worst)
	}
	return crc32.Checksum(text, castagnoli)
}

func (c *chunkRow) sum() uint32 {
	return crc32.Checksum(fmt.Appendf(nil, "%d %d %d %d %d %d", c.Series, c.Tier, c.FirstAt, c.LastAt, c.Count, c.Steps), castagnoli)
}
