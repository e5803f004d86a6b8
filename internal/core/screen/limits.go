// Package screen decides whether a reading counts.
package screen

import (
	"fmt"
	"math"
	"time"

	"nexocumula/internal/core/reading"
)

// Limits bounds a series' readings. The zero value lets every
// finite value pass.
type Limits struct {
	Low, High *float64      // in the unit of the series; nil means no limit
	MaxAhead  time.Duration // how far a time stamp may be in the future; 0: any distance
	MaxAge    time.Duration // how old a reading may be, as readings are not kept for longer; 0: any age
}

// DefaultMaxAhead is how far a time stamp may be in the future unless a rule says
// otherwise.
const DefaultMaxAhead = 5 * time.Minute

// Refuse returns the reason why a value at time t (both times in nanoseconds since 1970) must
// not count, and the rule that says so; both are "" when it may.
func (l Limits) Refuse(value float64, t, now int64) (rule, reason string) {
	switch {
	case math.IsNaN(value) || math.IsInf(value, 0):
		return reading.NoNumber, fmt.Sprintf("value is %v, which is no measurement", value)
	case l.Low != nil && value < *l.Low:
		return reading.OutOfRange, fmt.Sprintf("value %v is below the range's low end %v", value, *l.Low)
	case l.High != nil && value > *l.High:
		return reading.OutOfRange, fmt.Sprintf("value %v is above the range's high end %v", value, *l.High)
	}
	if reason = l.RefuseTime(t, now); reason != "" {
		rule = reading.WrongTime
	}
	return rule, reason
}

// RefuseTime returns the reason why a reading of time t must not count, which is only as right
// as the clock that says now.
func (l Limits) RefuseTime(t, now int64) string {
	switch {
	case l.MaxAhead > 0 && t > now+int64(l.MaxAhead):
		return fmt.Sprintf("time stamp %s is %s in the future by the gateway's clock; at most %s is allowed",
			time.Unix(0, t).UTC().Format(time.RFC3339), time.Duration(t-now).Round(time.Second), l.MaxAhead)
	case l.MaxAge > 0 && t < now-int64(l.MaxAge):
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
