// Package screen decides whether a reading counts.
package screen

import (
	"fmt"
	"math"
	"time"
)

// Limits are what a series' readings must keep to. The zero value lets every
// finite value pass.
type Limits struct {
	Low, High *float64      // in the unit of the series; nil means no limit
	MaxAhead  time.Duration // how far a time stamp may be ahead of the gateway's clock
	MaxBehind time.Duration // how far behind it, as readings are not kept for longer; 0: any age
}

// Refuse is the reason why a value at time t (both in nanoseconds since 1970) must
// not count, or "" when it may.
func (l Limits) Refuse(value float64, t, now int64) string {
	switch {
	case math.IsNaN(value) || math.IsInf(value, 0):
		return fmt.Sprintf("value is %v, which is no measurement", value)
	case l.Low != nil && value < *l.Low:
		return fmt.Sprintf("value %v is below the range's low end %v", value, *l.Low)
	case l.High != nil && value > *l.High:
		return fmt.Sprintf("value %v is above the range's high end %v", value, *l.High)
	case l.MaxAhead > 0 && t > now+int64(l.MaxAhead):
		return fmt.Sprintf("time stamp %s is %s ahead of the gateway's clock; at most %s is allowed",
			time.Unix(0, t).UTC().Format(time.RFC3339), time.Duration(t-now).Round(time.Second), l.MaxAhead)
	case l.MaxBehind > 0 && t < now-int64(l.MaxBehind):
		return fmt.Sprintf("time stamp %s is %s old; readings here are not kept that long, so its window's summary could not be made again",
			time.Unix(0, t).UTC().Format(time.RFC3339), time.Duration(now-t).Round(time.Minute))
	case t < earliest:
		return fmt.Sprintf("time stamp %s is before the year 2000; the device's clock is not set",
			time.Unix(0, t).UTC().Format(time.RFC3339))
	}
	return ""
}

// A device whose clock was never set counts from 1970 or 1980.
var earliest = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC).UnixNano()
