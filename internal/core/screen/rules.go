package screen

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/core/formula"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/span"
)

// Then says what becomes of a reading that fails a rule.
type Then string

// What can become of it.
const (
	Reject    Then = "reject"    // it does not count, and is kept with its reason
	Uncertain Then = "uncertain" // it counts, and its quality says so
)

// ParseThen reads one; the empty text is Reject.
func ParseThen(text string) (Then, error) {
	switch t := Then(text); t {
	case Reject, Uncertain:
		return t, nil
	case "":
		return Reject, nil
	}
	return "", fmt.Errorf("%q is not known; use reject or uncertain", text)
}

// Subject is a calibrated reading that is looked at.
type Subject struct {
	Def    *series.Definition
	Time   int64 // nanoseconds since 1970
	Value  float64
	Memory *Memory // of its series
	// Beside is the value of another series in the same message and of the same time.
	Beside func(path series.Path) (float64, bool)
}

// Check is one check of a series.
type Check struct {
	Name string // by which rejects are counted
	Then Then
	Test Test
}

// Test finds out why a reading cannot be true; "" when it can.
type Test interface {
	Doubt(s *Subject) string
}

// Verdict is the result of a series' rules for a reading. Without a rule it is good.
type Verdict struct {
	Rule   string
	Then   Then
	Reason string
}

// Judge asks the rules in their order: the first that rejects a reading decides, otherwise
// the first that doubts it.
func Judge(rules []Check, s *Subject) (out Verdict) {
	for _, r := range rules {
		if r.Then != Reject && out.Rule != "" {
			continue
		}
		if reason := r.Test.Doubt(s); reason != "" {
			if out = (Verdict{r.Name, r.Then, reason}); r.Then == Reject {
				return out
			}
		}
	}
	return out
}

// Within is a plausible range.
type Within struct{ Low, High float64 }

// Doubt returns the reason why not.
func (w Within) Doubt(s *Subject) string {
	if s.Value < w.Low || s.Value > w.High {
		return fmt.Sprintf("value %v is not within %v to %v", s.Value, w.Low, w.High)
	}
	return ""
}

// Change is how fast a value can change. The more time has passed since the last good
// reading, the further it may be, so that a step that is true counts before long.
type Change struct {
	By  float64
	Per time.Duration
}

// Doubt returns the reason why not.
func (c Change) Doubt(s *Subject) string {
	before, ok := s.Memory.nearest(s.Time)
	if !ok || before.time == s.Time {
		return ""
	}
	by := math.Abs(s.Value - before.value)
	switch s.Def.Kind {
	case series.Bearing:
		if by = math.Mod(by, 360); by > 180 {
			by = 360 - by
		}
	case series.Counter:
		if before.time < s.Time {
			by, _ = s.Def.Step(before.value, s.Value)
		}
	}
	took := time.Duration(s.Time - before.time).Abs()
	if most := c.By * float64(took) / float64(c.Per); by > most {
		return fmt.Sprintf("value %v is %.6g away from %v, %s apart; at most %v in %s is plausible", s.Value, by,
			before.value, took.Round(time.Millisecond), c.By, span.Format(c.Per))
	}
	return ""
}

// Stuck is how long a value can stay exactly the same.
type Stuck struct{ For time.Duration }

// Doubt returns the reason why not.
func (k Stuck) Doubt(s *Subject) string {
	since, ok := s.Memory.sameSince(s.Time, s.Value)
	if ok && s.Time-since > int64(k.For) {
		return fmt.Sprintf("value %v has been exactly the same since %s; longer than %s is not plausible", s.Value,
			time.Unix(0, since).UTC().Format(time.RFC3339), span.Format(k.For))
	}
	return ""
}

// LongestStuck returns the longest time that some of the rules let a value stay the same; 0 without such rules.
func LongestStuck(rules []Check) (longest time.Duration) {
	for _, r := range rules {
		if k, ok := r.Test.(Stuck); ok {
			longest = max(longest, k.For)
		}
	}
	return longest
}

// Allowed are the only values that can be.
type Allowed []float64

// Doubt returns the reason why not.
func (a Allowed) Doubt(s *Subject) string {
	if slices.Contains(a, s.Value) {
		return ""
	}
	names := make([]string, len(a))
	for i, v := range a {
		if names[i] = s.Def.States.Name(v); names[i] == "" {
			names[i] = fmt.Sprint(v)
		}
	}
	return fmt.Sprintf("value %v is none of the allowed %s", s.Value, strings.Join(names, ", "))
}

// Requires are series without which in the same message a reading means nothing.
type Requires []string

// Doubt returns the reason why not.
func (r Requires) Doubt(s *Subject) string {
	for _, name := range r {
		if path := Beside(s.Def.Path, name); path != s.Def.Path {
			if _, ok := s.Beside(path); !ok {
				return fmt.Sprintf("%s is missing in the same message", path)
			}
		}
	}
	return ""
}

// Holds is a formula over the reading, called value, and other series of the same message.
// Where one of these is missing it says nothing.
type Holds struct {
	Text    string
	Formula formula.Formula
	With    []string // the other series, in the order of the formula's names after value
}

// NewHolds reads a formula; with are the names it uses and the series they stand for.
func NewHolds(text string, names, with []string) (Holds, error) {
	f, err := formula.Parse(text, append([]string{"value"}, names...))
	return Holds{text, f, with}, err
}

// Doubt returns the reason why not.
func (h Holds) Doubt(s *Subject) string {
	values := make([]float64, 1, 1+len(h.With))
	values[0] = s.Value
	var with strings.Builder
	for _, name := range h.With {
		path := Beside(s.Def.Path, name)
		v, ok := s.Beside(path)
		if !ok {
			return ""
		}
		values = append(values, v)
		fmt.Fprintf(&with, ", with %s %v", path, v)
	}
	if h.Formula(values) == 0 {
		return fmt.Sprintf("value %v does not keep to %q%s", s.Value, h.Text, with.String())
	}
	return ""
}

// Beside returns the path of a series that is named from another: its quantity at the same
// station, or its path below the site.
func Beside(path series.Path, name string) series.Path {
	cut := strings.LastIndexByte(string(path), '/')
	if strings.Contains(name, "/") {
		cut = strings.IndexByte(string(path), '/')
	}
	return path[:cut+1] + series.Path(name)
}
