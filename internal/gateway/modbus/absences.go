package modbus

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"nexocumula/internal/core/gap"
)

// absences remembers when units did not answer, so that the gaps of their series have a cause.
type absences struct {
	mu  sync.Mutex
	all map[uint8][]gap.Episode // of a unit, in order; To is 0 while it goes on
}

const mostAbsences = 100 // of a unit; the oldest go first

func (a *absences) begin(unit uint8, at time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.all == nil {
		a.all = map[uint8][]gap.Episode{}
	}
	of := append(a.all[unit], gap.Episode{
		From:   at.UnixNano(),
		Cause:  gap.UnitAbsent,
		Detail: fmt.Sprintf("unit %d did not answer", unit),
	})
	a.all[unit] = of[max(0, len(of)-mostAbsences):]
}

func (a *absences) end(unit uint8, at time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if of := a.all[unit]; len(of) > 0 && of[len(of)-1].To == 0 {
		of[len(of)-1].To = at.UnixNano()
	}
}

// Absent returns when the unit of a place did not answer, within a span of time.
func (m *poller) Absent(place string, from, to int64) (out []gap.Episode) {
	var unit uint8
	if _, err := fmt.Sscanf(strings.TrimSpace(place), "unit %d", &unit); err != nil {
		return nil
	}
	m.absences.mu.Lock()
	defer m.absences.mu.Unlock()
	for _, e := range m.absences.all[unit] {
		if e.To == 0 {
			e.To = to
		}
		if e.From < to && e.To > from {
			out = append(out, e)
		}
	}
	return out
}
