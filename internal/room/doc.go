// Package room keeps a store within its limits: when it would become too large, or the disk too full, what is oldest
// and can best be missed is dropped, and recorded as a gap.
package room
