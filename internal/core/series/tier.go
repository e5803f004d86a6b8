package series

import (
	"fmt"
	"time"

	"nexocumula/internal/core/span"
)

// Tier is one rollup width; 0 is the readings themselves.
type Tier time.Duration

// Some tiers.
const (
	Readings  Tier = 0
	TenSecond      = Tier(10 * time.Second)
	Minute         = Tier(time.Minute)

	// Quarter is the width of sketches, which are kept of series that ask for them.
	Quarter = Tier(15 * time.Minute)
)

// What tiers can be.
const (
	MostTiers  = 8  // of one series
	MostWidths = 64 // different ones, of all
	narrowest  = Tier(time.Second)
	widest     = Tier(24 * time.Hour)
)

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

// String returns the width as we write durations: 10s, 1m; "readings" for tier 0.
func (w Tier) String() string {
	if w == Readings {
		return "readings"
	}
	return span.Format(time.Duration(w))
}

// ParseTier reads the width of a tier.
func ParseTier(text string) (Tier, error) {
	d, err := span.Parse(text)
	if err != nil {
		return 0, err
	}
	if t := Tier(d); t < narrowest || t > widest || t%narrowest != 0 {
		return 0, fmt.Errorf("tier %s is not possible; use whole seconds, from %s to %s", text, narrowest, widest)
	}
	return Tier(d), nil
}

// TierTexts returns the widths of tiers as they are written.
func TierTexts(tiers []Tier) []string {
	out := make([]string, len(tiers))
	for i, t := range tiers {
		out[i] = t.String()
	}
	return out
}
