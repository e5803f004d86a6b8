package series

import (
	"fmt"
	"time"
)

// Kind says how a series behaves, and so which reductions of it mean something.
type Kind string

// The kinds.
const (
	Gauge   Kind = "gauge"   // continuous
	Counter Kind = "counter" // only grows; wraps or starts again
	State   Kind = "state"   // one of few values
	Bearing Kind = "bearing" // an angle in degrees: 359 is next to 1
)

// ParseKind reads a kind; the empty text is a gauge.
func ParseKind(s string) (Kind, error) {
	switch k := Kind(s); k {
	case Gauge, Counter, State, Bearing:
		return k, nil
	case "":
		return Gauge, nil
	}
	return "", fmt.Errorf("kind %q is not known; use gauge, counter, state or bearing", s)
}

// DefaultFreshFor is how long a reading speaks for a series that says nothing else.
const DefaultFreshFor = time.Minute

// Definition describes a series without its values.
type Definition struct {
	Path Path
	Kind Kind
	Unit string // SenML's symbol (RFC 8428, RFC 8798) where one exists

	// FreshFor is how long one reading speaks for the series: past it the latest
	// value is stale, and the time after it is not covered.
	FreshFor time.Duration

	// Wrap is how many steps a counter has before it begins again from 0, such as
	// 65536; 0 when it is not known to. Without it every fall is a reset.
	Wrap float64

	Labels Labels

	States StateNames // of states: what their values are called

	// Calibration is how raw values become those of the series, for people; "": as they come.
	Calibration string

	Normal Normal // what is usual

	// Every is how often a reading is expected; 0 when nothing is said.
	Every time.Duration

	Sketch bool // its percentiles can be estimated where only summaries are kept

	// Tiers are the widths of its summaries, such as 10s,1m,1h; "": those that are usual.
	// Only widths of which all is made stand here.
	Tiers string

	// Thinning is how fewer of its readings are kept than arrive, as package thin reads it; "":
	// all are. It is the business of where they are kept, and not replicated.
	Thinning string
}

// Step is by how much a counter grew from one reading to the next. A fall is a wrap
// when that makes for less than half of the counter's width; otherwise the counter
// was reset, and has counted to later since.
func (d *Definition) Step(earlier, later float64) (grown float64, reset bool) {
	grown = later - earlier
	switch {
	case grown >= 0:
		return grown, false
	case d.Wrap > 0 && grown+d.Wrap < d.Wrap/2:
		return grown + d.Wrap, false
	}
	return later, true
}

// Condition says whether a series is heard.
type Condition string

// The conditions.
const (
	Fresh   Condition = "fresh"   // its latest reading still speaks for it
	Stale   Condition = "stale"   // it does not any more
	Missing Condition = "missing" // for ten times as long as a reading speaks
)

const missingAfter = 10

// Condition returns the condition of a series whose latest reading is of a time, and since when it holds. A series that has
// ended is stale from then on. Times are nanoseconds since 1970; ended is 0 of a series that has not.
func (d *Definition) Condition(latest, ended, now int64) (c Condition, since int64) {
	stale, missing := latest+int64(d.FreshFor), latest+missingAfter*int64(d.FreshFor)
	if ended != 0 {
		stale = min(stale, ended)
	}
	switch {
	case now > missing:
		return Missing, missing
	case now > stale:
		return Stale, stale
	}
	return Fresh, latest
}
