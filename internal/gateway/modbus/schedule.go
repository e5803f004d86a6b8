package modbus

import (
	"fmt"
	"slices"
	"time"
)

// schedule says which units to ask in a poll. One that does not answer costs a timeout
// each time, which all the others wait for; it is asked more and more rarely, and last.
type schedule struct {
	every  time.Duration
	silent map[uint8]*silence
}

type silence struct {
	since time.Time
	tries int
	next  time.Time
}

const (
	patientTries  = 2 // in a row, before a unit is asked more rarely
	longestPause  = time.Minute
	doublingsMost = 6
)

func newSchedule(every time.Duration) *schedule {
	return &schedule{every: every, silent: map[uint8]*silence{}}
}

// order is the reads of the units that are due, those of silent units last.
func (s *schedule) order(reads []read, now time.Time) []read {
	due := slices.DeleteFunc(slices.Clone(reads), func(r read) bool {
		quiet := s.silent[r.unit]
		return quiet != nil && now.Before(quiet.next)
	})
	slices.SortStableFunc(due, func(a, b read) int { return s.rank(a) - s.rank(b) })
	return due
}

func (s *schedule) rank(r read) int {
	if s.silent[r.unit] != nil {
		return 1
	}
	return 0
}

// answered ends a unit's silence.
func (s *schedule) answered(unit uint8) { delete(s.silent, unit) }

// missed notes that a unit did not answer.
func (s *schedule) missed(unit uint8, now time.Time) {
	quiet := s.silent[unit]
	if quiet == nil {
		quiet = &silence{since: now}
		s.silent[unit] = quiet
	}
	quiet.tries++
	if over := quiet.tries - patientTries; over > 0 {
		pause := max(s.every, time.Second) << min(over, doublingsMost)
		quiet.next = now.Add(min(pause, max(longestPause, s.every)) - s.every/2)
	}
}

// absent names the units that do not answer.
func (s *schedule) absent() []string {
	var out []string
	for unit, quiet := range s.silent {
		out = append(out, fmt.Sprintf("unit %d has not answered since %s", unit, quiet.since.UTC().Format(time.RFC3339)))
	}
	slices.Sort(out)
	return out
}
