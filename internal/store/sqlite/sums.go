package sqlite

import (
	"fmt"
	"hash/crc32"
	"math"
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// A flipped bit in the plain columns of a row would give its payload to another series
// or time, so each row has a checksum of them too: CRC-32C of their text.
//
// A sum is of what the database gives back, not of what it was given: of a float -0 becomes
// 0, and what is no number becomes NULL, which is read as 0.

// Sum returns the checksum of a row's text.
func Sum(text []byte) uint32 { return crc32.Checksum(text, castagnoli) }

// AsStored returns what the database gives back for a float.
func AsStored(f float64) float64 {
	if f == 0 || math.IsNaN(f) {
		return 0
	}
	return f
}

func (c *Chunk) sum() uint32 {
	return Sum(fmt.Appendf(nil, "%d %d %d %d %d %d", c.Series, c.Tier, c.FirstAt, c.LastAt, c.Count, c.Steps))
}

func (p *Patch) sum() uint32 {
	return Sum(fmt.Appendf(nil, "%d %d %d %d %d", p.Series, p.Tier, p.FirstAt, p.LastAt, p.Count))
}
