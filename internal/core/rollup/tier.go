package rollup

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nexocumula/internal/core/series"
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

// Tiers of series that ask for no others, from the narrowest to the widest.
var Tiers = []Tier{TenSecond, Minute}

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

// String is the width as we write durations: 10s, 1m; "readings" for tier 0.
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

// ParseTiers reads widths from the narrowest to the widest, each a multiple of the one before,
// so that each can be made of that.
func ParseTiers(texts []string) (out []Tier, err error) {
	if len(texts) == 0 || len(texts) > MostTiers {
		return nil, fmt.Errorf("there are %d tiers; list 1 to %d, such as [10s, 1m, 1h]", len(texts), MostTiers)
	}
	for i, text := range texts {
		t, err := ParseTier(text)
		if err != nil {
			return nil, err
		}
		if i > 0 && (t <= out[i-1] || t%out[i-1] != 0) {
			return nil, fmt.Errorf("tier %s is no multiple of the one before it, %s, of which it is made", t, out[i-1])
		}
		out = append(out, t)
	}
	return out, nil
}

// Names are tiers as definitions have them: "" of those that are usual.
func Names(tiers []Tier) string {
	if slices.Equal(tiers, Tiers) {
		return ""
	}
	return strings.Join(List(tiers), ",")
}

// List is the widths of tiers.
func List(tiers []Tier) []string {
	out := make([]string, len(tiers))
	for i, t := range tiers {
		out[i] = t.String()
	}
	return out
}

// parsed caches the tiers of each list of names. It is cleared when it holds mostParsed lists, so
// that a sender of ever new lists cannot make it grow.
var (
	parsed      sync.Map
	parsedCount atomic.Int64
)

const mostParsed = 1000

// TiersOf returns the tiers of a series, narrowest first; callers do not change it.
func TiersOf(d *series.Definition) []Tier {
	if d.Tiers == "" {
		return Tiers
	}
	if known, ok := parsed.Load(d.Tiers); ok {
		return known.([]Tier)
	}
	out, err := ParseTiers(strings.Split(d.Tiers, ","))
	if err != nil {
		return Tiers // definitions are checked where they come in
	}
	if parsedCount.Add(1) > mostParsed {
		parsed.Clear()
		parsedCount.Store(1)
	}
	parsed.Store(d.Tiers, out)
	return out
}
