package series

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"nexocumula/internal/core/span"
)

// ThinMethod is a way to thin; 0 is none.
type ThinMethod uint8

// The methods.
const (
	OnChange     ThinMethod = iota + 1 // what is the same as the last that was kept goes
	Deadband                           // what is near the last that was kept goes
	SwingingDoor                       // what lies near the straight line between two that are kept goes
)

var thinMethods = [...]string{"none", OnChange: "on_change", Deadband: "deadband", SwingingDoor: "swinging_door"}

// ParseThinMethod reads the name of a method.
func ParseThinMethod(name string) (ThinMethod, error) {
	if i := slices.Index(thinMethods[:], name); i > 0 {
		return ThinMethod(i), nil
	}
	return 0, fmt.Errorf("method %q is not known; use on_change, deadband or swinging_door", name)
}

// String returns the name.
func (m ThinMethod) String() string { return thinMethods[m] }

// Thinning says how a series is thinned. The zero Thinning keeps everything.
type Thinning struct {
	Method   ThinMethod
	Within   float64       // the error that is allowed, in the unit of the series
	Relative float64       // of a deadband: or as a share of the last value that was kept
	Silence  time.Duration // at least one reading of such a time is kept
}

// How long nothing may be kept of a series that is heard.
const (
	DefaultSilence = time.Hour
	LongestSilence = 24 * time.Hour
)

// Check says what is wrong with a rule for a kind of series.
func (r Thinning) Check(kind Kind) error {
	number := func(v float64) bool { return v >= 0 && !math.IsInf(v, 0) }
	switch r.Method {
	case OnChange:
		if r.Within != 0 || r.Relative != 0 {
			return fmt.Errorf("on_change goes by any change, and takes neither within nor relative; use deadband for those")
		}
	case Deadband:
		if !number(r.Within) || !number(r.Relative) || r.Relative >= 1 || r.Within+r.Relative == 0 {
			return fmt.Errorf("a deadband needs within, in the unit of the series, or relative, from 0 to below 1")
		}
	case SwingingDoor:
		if !number(r.Within) || r.Within == 0 || r.Relative != 0 {
			return fmt.Errorf("swinging_door needs within, in the unit of the series, and takes no relative")
		}
		if kind == Bearing {
			return fmt.Errorf("there is no straight line between two bearings; use deadband")
		}
	default:
		return fmt.Errorf("there is no method; use on_change, deadband or swinging_door")
	}
	if kind == State && r.Method != OnChange {
		return fmt.Errorf("a state is thinned by on_change only")
	}
	if r.Silence <= 0 || r.Silence > LongestSilence {
		return fmt.Errorf("longest_silence is %s at most", span.Format(LongestSilence))
	}
	return nil
}

// String returns the rule as ParseThinning reads it.
func (r Thinning) String() string {
	if r.Method == 0 {
		return ""
	}
	out := r.Method.String()
	for _, part := range []struct {
		name  string
		value float64
	}{{"within", r.Within}, {"relative", r.Relative}} {
		if part.value != 0 {
			out += fmt.Sprintf(" %s %s", part.name, strconv.FormatFloat(part.value, 'g', -1, 64))
		}
	}
	return out + " silence " + span.Format(r.Silence)
}

// ParseThinning reads what String wrote.
func ParseThinning(text string) (r Thinning, err error) {
	words := strings.Fields(text)
	if len(words) == 0 {
		return Thinning{}, nil
	}
	r.Method, err = ParseThinMethod(words[0])
	for words = words[1:]; len(words) >= 2 && err == nil; words = words[2:] {
		switch words[0] {
		case "within":
			r.Within, err = strconv.ParseFloat(words[1], 64)
		case "relative":
			r.Relative, err = strconv.ParseFloat(words[1], 64)
		case "silence":
			r.Silence, err = span.Parse(words[1])
		default:
			err = fmt.Errorf("%q is not known", words[0])
		}
	}
	if err != nil || len(words) > 0 {
		return Thinning{}, fmt.Errorf("%q is no rule of thinning: %w", text, err)
	}
	return r, nil
}

// MarshalText returns the rule as String does.
func (r Thinning) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText reads what MarshalText returned.
func (r *Thinning) UnmarshalText(text []byte) (err error) {
	*r, err = ParseThinning(string(text))
	return err
}
