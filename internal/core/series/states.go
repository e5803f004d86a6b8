package series

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

const (
	maxStates         = 64
	maxStateNameBytes = 40
)

// StateNames names the values of a state as one text: value=name, by value
// and joined by commas. Get them from MakeStateNames or ParseStateNames.
type StateNames string

// MakeStateNames checks names and the value of each.
func MakeStateNames(names map[string]float64) (StateNames, error) {
	if len(names) > maxStates {
		return "", fmt.Errorf("there are %d states; at most %d can have names", len(names), maxStates)
	}
	type state struct {
		value float64
		name  string
	}
	all := make([]state, 0, len(names))
	for name, value := range names {
		if name == "" || len(name) > maxStateNameBytes || strings.TrimSpace(name) != name ||
			strings.ContainsFunc(name, func(r rune) bool { return r == ',' || r == '=' || r < ' ' }) {
			return "", fmt.Errorf("state %q: a name has 1 to %d bytes, no comma, no equals sign, and no blank at its ends",
				name, maxStateNameBytes)
		}
		if math.IsNaN(value) || math.IsInf(value, 0) {
			return "", fmt.Errorf("state %q: %v is no value", name, value)
		}
		all = append(all, state{value, name})
	}
	slices.SortFunc(all, func(a, b state) int { return cmp.Compare(a.value, b.value) })
	out := make([]string, len(all))
	for i, s := range all {
		if i > 0 && all[i-1].value == s.value {
			return "", fmt.Errorf("states %s and %s have the same value, %v", all[i-1].name, s.name, s.value)
		}
		out[i] = strconv.FormatFloat(s.value, 'g', -1, 64) + "=" + s.name
	}
	return StateNames(strings.Join(out, ",")), nil
}

// ParseStateNames reads the text.
func ParseStateNames(text string) (StateNames, error) {
	names := map[string]float64{}
	for _, pair := range StateNames(text).pairs() {
		v, err := strconv.ParseFloat(pair[0], 64)
		if _, twice := names[pair[1]]; err != nil || twice {
			return "", fmt.Errorf("states %q: write value=name,value=name, each once", text)
		}
		names[pair[1]] = v
	}
	return MakeStateNames(names)
}

func (n StateNames) pairs() (out [][2]string) {
	if n == "" {
		return nil
	}
	for _, one := range strings.Split(string(n), ",") {
		value, name, _ := strings.Cut(one, "=")
		out = append(out, [2]string{value, name})
	}
	return out
}

// Name returns the name of a value, or "" if it has none.
func (n StateNames) Name(value float64) string {
	for _, pair := range n.pairs() {
		if v, err := strconv.ParseFloat(pair[0], 64); err == nil && v == value {
			return pair[1]
		}
	}
	return ""
}

// Value returns the value of a name, in any case of letters.
func (n StateNames) Value(name string) (value float64, ok bool) {
	for _, pair := range n.pairs() {
		if strings.EqualFold(pair[1], strings.TrimSpace(name)) {
			v, err := strconv.ParseFloat(pair[0], 64)
			return v, err == nil
		}
	}
	return 0, false
}

// Names returns all of them, by value.
func (n StateNames) Names() (out []string) {
	for _, pair := range n.pairs() {
		out = append(out, pair[1])
	}
	return out
}

// Map returns the value of each name.
func (n StateNames) Map() map[string]float64 {
	out := map[string]float64{}
	for _, pair := range n.pairs() {
		out[pair[1]], _ = strconv.ParseFloat(pair[0], 64) // as MakeStateNames wrote it
	}
	return out
}
