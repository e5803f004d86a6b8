package modbus

import "time"

// linePause is the time that a line needs between an answer and the next request, whichever unit it is to: often it is
// the converter before the units that is not ready yet.
type linePause struct {
	span  time.Duration
	fixed bool      // it is configured for every unit
	last  time.Time // when anything last answered
}

const (
	learnedStep = 10 * time.Millisecond
	learnedMost = 500 * time.Millisecond
)

// pauseOf returns the longest pause that is configured for a unit of a line.
func pauseOf(units map[uint8]*unit) linePause {
	out := linePause{fixed: true}
	for _, u := range units {
		out.span = max(out.span, u.limits.pause)
		out.fixed = out.fixed && u.limits.pause >= 0
	}
	return out
}

// rest returns how long the line still needs.
func (p *linePause) rest(now time.Time) time.Duration {
	if p.span == 0 {
		return 0
	}
	return p.last.Add(p.span).Sub(now)
}

// longer gives the line more time after an answer; false when it has had enough.
func (p *linePause) longer() bool {
	if p.fixed || p.span >= learnedMost {
		return false
	}
	p.span = min(max(2*p.span, learnedStep), learnedMost)
	return true
}
