package reading

import (
	"time"

	"nexocumula/internal/core/series"
)

// Reading is one value with its time.
type Reading struct {
	Path   series.Path
	Labels series.Labels // what is said about the series, besides its rule
	Time   int64         // nanoseconds since 1970-01-01T00:00:00Z
	Value  float64
	Text   string // instead of Value: the name of a state
	Truth  bool   // Value is 1 for true, or 0 for false
	Unit   string // as the sender says; "": in that of the series

	// From says where the reading came from, should it be refused. Readings of one
	// message share it.
	From *Origin
}

// Origin is the place a reading came from, and what arrived there.
type Origin struct {
	Source string // the source's name in the configuration
	Place  string // topic or register
	Raw    []byte
	Said   int64 // the time that the sender said, where it was corrected; 0: it was not
}

// Saying returns the origin of a reading whose sender said another time.
func (o *Origin) Saying(at int64) *Origin {
	again := *o
	again.Said = at
	return &again
}

// Reject is a reading, or a whole message, that did not count, kept with its reason.
type Reject struct {
	ID     uint64 // in the store; 0 before it is there
	Time   int64  // when it was refused, nanoseconds since 1970 in UTC
	Source string // the source's name in the configuration
	Place  string // topic, register or path: where in the source it came from
	Reason string // what is wrong and what would be right
	Raw    []byte // what arrived, cut to MaxRaw
	Rule   string // that refused it: one of a series' screens by its name, or one of those below

	// Of what could be read: the reading, before it was calibrated.
	Reading *Reading

	Replayed int64 // when it counted after all, nanoseconds since 1970; 0: it did not
}

// What refuses readings besides the screens of a series.
const (
	Unreadable   = "unreadable"  // the payload, the register, or the place it came from
	WrongState   = "state"       // a text that is none of the series' states
	WrongUnit    = "unit"        // the sender's unit cannot be the series'
	Uncalibrated = "calibration" // the calibration was not made for such a value
	NoNumber     = "number"      // NaN or infinite
	OutOfRange   = "range"
	WrongTime    = "time" // in the future, too old, or before any device was made
	NoSeries     = "series"
	Removed      = "removed"  // a person removed what is of its time
	Thinned      = "thinning" // it falls between readings of which not all are kept
)

// MaxRaw is how much of a refused message is kept.
const MaxRaw = 4096

// Reject returns the refusal of a reading by a rule.
func (r *Reading) Reject(now int64, rule, reason string) Reject {
	out := r.From.Reject(now, reason)
	own := *r
	own.From = nil
	out.Rule, out.Reading = rule, &own
	return out
}

// Reject returns the origin's refusal at time now; the raw bytes are copied and cut.
func (o *Origin) Reject(now int64, reason string) Reject {
	if o.Said != 0 {
		reason += "; its sender said the time " + time.Unix(0, o.Said).UTC().Format(time.RFC3339Nano)
	}
	raw := o.Raw[:min(len(o.Raw), MaxRaw)]
	return Reject{
		Time:   now,
		Source: o.Source,
		Place:  o.Place,
		Reason: reason,
		Raw:    append([]byte(nil), raw...),
		Rule:   Unreadable,
	}
}
