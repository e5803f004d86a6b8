package engine

import (
	"nexocumula/internal/core/series"
	"slices"
)

// ScanStats counts the reads of scans by tier, in the order of their first read.
type ScanStats []TierStats

// TierStats counts the reads of one tier.
type TierStats struct {
	Tier     series.Tier
	Synopses int // chunks answered by the one summary of all their rows
	Steps    int // chunks answered by their quarters of an hour
	Opened   int // chunks of which rows were decoded
	Rows     int // that were decoded, and those not sealed yet
	Bytes    int // of synopses, steps and columns read
}

// of returns the entry of a tier; nil when nobody wants to know.
func (w *ScanStats) of(tier series.Tier) *TierStats {
	if w == nil {
		return &TierStats{}
	}
	for i := range *w {
		if (*w)[i].Tier == tier {
			return &(*w)[i]
		}
	}
	*w = append(*w, TierStats{Tier: tier})
	return &(*w)[len(*w)-1]
}

// Plus returns the work of both.
func (w ScanStats) Plus(o ScanStats) ScanStats {
	out := slices.Clone(w)
	for _, t := range o {
		into := out.of(t.Tier)
		into.Synopses, into.Steps, into.Opened = into.Synopses+t.Synopses, into.Steps+t.Steps, into.Opened+t.Opened
		into.Rows, into.Bytes = into.Rows+t.Rows, into.Bytes+t.Bytes
	}
	return out
}
