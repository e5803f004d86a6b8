package modbus

import (
	"time"

	"nexocumula/internal/gateway/modbus/planner"
)

// unit is a device on a line, as far as we know it.
type unit struct {
	id     uint8
	limits unitLimits
	tables map[table]*tableOf
	proven bool // it has answered since the start
	silent *silence
	last   time.Time // when it last answered

	// relapses counts silences in a row between which it gave nothing but the answer that ended them.
	relapses int
}

// tableOf holds the facts known about one table of a unit.
type tableOf struct {
	planner.Facts
	Exception string `json:"exception,omitempty"` // with which it last refused something, in words
}

func (u *unit) table(t table) *tableOf {
	if u.tables[t] == nil {
		u.tables[t] = &tableOf{}
	}
	return u.tables[t]
}

// silence is the state of a unit that does not answer.
type silence struct {
	since time.Time
	tries int
	next  time.Time // when it is asked again, if the line has time
}

const (
	firstRest   = time.Second
	longestRest = time.Minute
	lonelyRest  = 10 * time.Second // where no other unit waits for the line
)

// missed notes that a unit did not answer. The first time may be noise: it is asked again
// as soon as that delays nobody. alone says that no other unit of the line answers.
func (u *unit) missed(now time.Time, alone bool) {
	if u.silent == nil {
		u.silent = &silence{since: now, tries: u.relapses}
		u.relapses++
	}
	most := longestRest
	if alone {
		most = lonelyRest
	}
	if u.silent.next = now; u.silent.tries > 0 {
		u.silent.next = now.Add(min(firstRest<<min(u.silent.tries-1, 10), most))
	}
	u.silent.tries++
}

// answered ends a silence.
func (u *unit) answered(now time.Time) {
	u.proven, u.silent, u.last = true, nil, now
}
