package series

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Normal is the normal range of a series as one text: inner=low..high and outer=low..high,
// joined by a comma; an end may be missing. It is marked, never rejected. Get one from
// MakeNormal or ParseNormal.
type Normal string

// Bounds are the ends of a range; -Inf and +Inf where there is none.
type Bounds struct{ Low, High float64 }

// Anything has no ends.
var Anything = Bounds{math.Inf(-1), math.Inf(1)}

// MakeNormal checks an inner range, inside of which nothing is worth a look, and an outer
// one, outside of which something is wrong.
func MakeNormal(inner, outer Bounds) (Normal, error) {
	for _, b := range []Bounds{inner, outer} {
		if math.IsNaN(b.Low) || math.IsNaN(b.High) || !(b.Low < b.High) {
			return "", fmt.Errorf("the range %s is empty; its low end stands first", b)
		}
	}
	if inner != Anything && outer != Anything && (inner.Low < outer.Low || inner.High > outer.High) {
		return "", fmt.Errorf("the inner range %s reaches beyond the outer one %s", inner, outer)
	}
	var out []string
	if inner != Anything {
		out = append(out, "inner="+inner.String())
	}
	if outer != Anything {
		out = append(out, "outer="+outer.String())
	}
	return Normal(strings.Join(out, ",")), nil
}

// ParseNormal reads the text.
func ParseNormal(text string) (Normal, error) {
	inner, outer := Anything, Anything
	for one := range strings.SplitSeq(text, ",") {
		name, ends, _ := strings.Cut(one, "=")
		b, err := parseBounds(ends)
		switch {
		case text == "":
			return "", nil
		case err != nil:
			return "", fmt.Errorf("normal range %q: %w", text, err)
		case name == "inner":
			inner = b
		case name == "outer":
			outer = b
		default:
			return "", fmt.Errorf("normal range %q: write inner=low..high,outer=low..high", text)
		}
	}
	return MakeNormal(inner, outer)
}

func parseBounds(text string) (b Bounds, err error) {
	low, high, ok := strings.Cut(text, "..")
	if !ok {
		return b, fmt.Errorf("%q is no range; write low..high", text)
	}
	b = Anything
	for _, end := range []struct {
		text string
		into *float64
	}{{low, &b.Low}, {high, &b.High}} {
		if end.text == "" {
			continue
		}
		if *end.into, err = strconv.ParseFloat(end.text, 64); err != nil {
			return b, fmt.Errorf("%q is no number", end.text)
		}
	}
	return b, nil
}

// String is low..high, an end that is missing left out.
func (b Bounds) String() string {
	end := func(v float64) string {
		if math.IsInf(v, 0) {
			return ""
		}
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return end(b.Low) + ".." + end(b.High)
}

// Has reports whether a value lies in it.
func (b Bounds) Has(v float64) bool { return v >= b.Low && v <= b.High }

// Ranges are both; Anything where none is known.
func (n Normal) Ranges() (inner, outer Bounds) {
	inner, outer = Anything, Anything
	for one := range strings.SplitSeq(string(n), ",") {
		name, ends, _ := strings.Cut(one, "=")
		b, err := parseBounds(ends)
		switch {
		case err != nil: // of the empty text; MakeNormal wrote the others
		case name == "inner":
			inner = b
		case name == "outer":
			outer = b
		}
	}
	return inner, outer
}

// Standing says where a value stands in a normal range.
type Standing string

// Where it can stand.
const (
	Usual    Standing = "normal"   // or nothing is known
	Unusual  Standing = "unusual"  // outside of the inner range
	Critical Standing = "critical" // outside of the outer range
)

// Of returns the standing of a value in the normal range.
func (n Normal) Of(v float64) Standing {
	if n == "" {
		return Usual
	}
	switch inner, outer := n.Ranges(); {
	case !outer.Has(v):
		return Critical
	case !inner.Has(v):
		return Unusual
	}
	return Usual
}
