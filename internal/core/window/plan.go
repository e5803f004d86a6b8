package window

import (
	"fmt"
	"time"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/span"
)

// Plan is a range cut into windows, and the tier they are computed from.
type Plan struct {
	From, To int64 // nanoseconds since 1970; whole windows, To not included
	Width    time.Duration
	Tier     rollup.Tier
}

// MakePlan cuts from <= time < to into windows of width, counted from
// 1970-01-01T00:00:00Z. A range that begins or ends inside a window is widened to
// take it in whole. The tier is the widest one whose windows fill these exactly;
// readings say whether tier 0 is at hand as well.
func MakePlan(from, to int64, width time.Duration, readings bool) (Plan, error) {
	if to <= from {
		return Plan{}, fmt.Errorf("range is empty: from %s is not before to %s", clock(from), clock(to))
	}
	if width <= 0 {
		return Plan{}, fmt.Errorf("width must be more than nothing, such as 15m")
	}
	tier, err := exactTier(width, readings)
	if err != nil {
		return Plan{}, err
	}
	grid := rollup.Tier(width)
	end := grid.Start(to)
	if end < to {
		end += int64(width)
	}
	return Plan{From: grid.Start(from), To: end, Width: width, Tier: tier}, nil
}

func exactTier(width time.Duration, readings bool) (rollup.Tier, error) {
	for i := len(rollup.Tiers) - 1; i >= 0; i-- {
		if width%rollup.Tiers[i].Width() == 0 {
			return rollup.Tiers[i], nil
		}
	}
	if readings {
		return rollup.Readings, nil
	}
	finest := rollup.Tiers[0].Width()
	near := max(finest, width/finest*finest)
	return 0, fmt.Errorf("width %s cannot be answered exactly: only summaries of %s are kept here; use a multiple of it, such as %s, or ask the gateway, which has the readings",
		span.Format(width), span.Format(finest), span.Format(near))
}

// Windows is how many windows the range has.
func (p Plan) Windows() int { return int((p.To - p.From) / int64(p.Width)) }

func clock(t int64) string { return time.Unix(0, t).UTC().Format(time.RFC3339) }
