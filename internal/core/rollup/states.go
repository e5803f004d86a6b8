package rollup

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// MostStates is how many values of a state one summary tells apart. When there are
// more, it is no longer known how long any of them held: a single entry under NaN has
// the time of all.
const MostStates = 16

// States are how long each value of a state held, by value.
type States []StateTime

// StateTime is how long one value held.
type StateTime struct {
	Value float64
	Held  time.Duration
}

// Of returns how long a value held, in nanoseconds; NaN when there were too many values to
// tell.
func (s States) Of(value float64) float64 {
	if s.tooMany() {
		return math.NaN()
	}
	for _, one := range s {
		if one.Value == value {
			return float64(one.Held)
		}
	}
	return 0
}

func (s States) tooMany() bool { return len(s) == 1 && math.IsNaN(s[0].Value) }

// plus returns a new list with the times of both.
func (s States) plus(o States) States {
	if len(o) == 0 {
		return s
	}
	out := slices.Clone(s)
	for _, one := range o {
		out = out.add(one.Value, one.Held)
	}
	return out
}

// add changes s.
func (s States) add(value float64, held time.Duration) States {
	if held <= 0 {
		return s
	}
	if s.tooMany() {
		s[0].Held += held
		return s
	}
	i, found := slices.BinarySearchFunc(s, value,
		func(one StateTime, v float64) int { return cmp.Compare(one.Value, v) })
	if found {
		s[i].Held += held
		return s
	}
	s = slices.Insert(s, i, StateTime{value, held})
	if len(s) <= MostStates && !math.IsNaN(value) {
		return s
	}
	all := StateTime{Value: math.NaN()}
	for _, one := range s {
		all.Held += one.Held
	}
	return States{all}
}
