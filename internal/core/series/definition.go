package series

import (
	"cmp"
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

// Definition describes a series without its values. Definitions can be compared. As JSON and CBOR they are
// what the store keeps and the wire carries: a property that is added here needs nothing there.
type Definition struct {
	Path Path   `json:"path,omitempty"`
	Kind Kind   `json:"kind"`
	Unit string `json:"unit"` // SenML's symbol (RFC 8428, RFC 8798) where one exists

	// FreshFor is how long one reading speaks for the series: past it the latest
	// value is stale, and the time after it is not covered.
	FreshFor time.Duration `json:"fresh_for"`

	// Wrap is how many steps a counter has before it begins again from 0, such as
	// 65536; 0 when it is not known to. Without it every fall is a reset.
	Wrap float64 `json:"wrap,omitempty"`

	Labels Labels     `json:"labels,omitempty"`
	States StateNames `json:"states,omitempty"` // of states: what their values are called

	Calibration Calibration `json:"calibration,omitempty"` // how raw values become those of the series
	Normal      Normal      `json:"normal,omitempty"`      // what is usual

	// Every is how often a reading is expected; 0 when nothing is said.
	Every time.Duration `json:"every,omitempty"`

	Sketch bool `json:"sketch,omitempty"` // its percentiles can be estimated where only summaries are kept

	// Tiers are the widths of its summaries. Only widths of which all is made stand here.
	Tiers Tiers `json:"tiers,omitzero"`

	// Thinning is how fewer of its readings are kept than arrive. It is the business of where they
	// are kept, and not replicated.
	Thinning Thinning `json:"thinning,omitzero"`
}

const (
	longestUnit = 100 // bytes
	mostSteps   = 1 << 53
)

// Checked returns the definition as it is written here, or what is wrong with it. Definitions that come
// from elsewhere go through it.
func (d Definition) Checked() (Definition, error) {
	var errs [5]error
	d.Path, errs[0] = ParsePath(string(d.Path))
	d.Kind, errs[1] = ParseKind(string(d.Kind))
	d.Labels, errs[2] = ParseLabels(string(d.Labels))
	d.States, errs[3] = ParseStateNames(string(d.States))
	d.Normal, errs[4] = ParseNormal(string(d.Normal))
	if err := cmp.Or(errs[:]...); err != nil {
		return d, err
	}
	switch {
	case d.FreshFor <= 0 || d.Every < 0:
		return d, fmt.Errorf("fresh_for of %d ns and %d ns from reading to reading are not possible; more than 0, and 0 or more, are",
			d.FreshFor, d.Every)
	case len(d.Unit) > longestUnit || len(d.Calibration) > longestCalibration:
		return d, fmt.Errorf("a unit of %d bytes and a calibration of %d are not possible; at most %d and %d are",
			len(d.Unit), len(d.Calibration), longestUnit, longestCalibration)
	case !(d.Wrap >= 0 && d.Wrap <= mostSteps):
		return d, fmt.Errorf("wrap is %v; 0 to %d is wanted", d.Wrap, int64(mostSteps))
	}
	return d, nil
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

// Condition returns the condition of a series whose latest reading is of a time, and since when it holds. A
// series that has ended is stale from then on. Times are nanoseconds since 1970; ended is 0 of a series that
// has not.
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
