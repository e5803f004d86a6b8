package rollup

import (
	"time"

	"nexocumula/internal/core/span"
)

// Tier is one rollup width; 0 is the readings themselves.
type Tier time.Duration

// The tiers a gateway keeps.
const (
	Readings  Tier = 0
	TenSecond      = Tier(10 * time.Second)
	Minute         = Tier(time.Minute)

	// Quarter is the width of sketches, which are kept of series that ask for them.
	Quarter = Tier(15 * time.Minute)
)

// Tiers from the narrowest to the widest.
var Tiers = []Tier{TenSecond, Minute}

// Start of the window that holds t. Windows are counted from 1970-01-01T00:00:00Z.
func (w Tier) Start(t int64) int64 {
	r := t % int64(w)
	if r < 0 {
		r += int64(w)
	}
	return t - r
}

// Width of a window.
func (w Tier) Width() time.Duration { return time.Duration(w) }

// String is the width as we write durations: 10s, 1m; "readings" for tier 0.
func (w Tier) String() string {
	if w == Readings {
		return "readings"
	}
	return span.Format(time.Duration(w))
}
