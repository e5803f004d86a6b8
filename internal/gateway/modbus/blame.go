package modbus

import (
	"fmt"
	"time"

	"github.com/simonvetter/modbus"

	"nexocumula/internal/gateway/modbus/planner"
	"nexocumula/internal/plain"
)

// blame is a read that was not answered as it should. Before the read is blamed for it, the unit is asked for something
// that it has given before: if it answers that, not to answer, or to answer with something else, is its way of refusing
// the read; else the unit is silent.
type blame struct {
	step  step
	begun time.Time
	err   error
}

// noisyReads is how often in a row a read is disturbed before it is blamed for it. Until then it is noise on
// the line, or a device that was busy.
const noisyReads = 3

// suspected reports whether a failed read may be to blame. What was answered before is not blamed for one silence.
func (s step) suspected(err error, facts *tableOf) bool {
	if !isOf(err, modbus.ErrBadCRC, modbus.ErrShortFrame) && !(isTimeout(err) && facts.Gave(s.Read)) {
		return isTimeout(err) || isGarbled(err) || isClosed(err)
	}
	if s.want.noise == nil {
		s.want.noise = map[int]int{}
	}
	s.want.noise[s.First]++
	return s.want.noise[s.First] >= noisyReads
}

// knownGood returns a read of something that a unit is known to give, beside a read that it may refuse, or nil.
func (m *poller) knownGood(u *unit, s step) *step {
	for _, t := range m.tasks {
		if t.unit != u {
			continue
		}
		for i := range t.wants {
			w := &t.wants[i]
			for k, v := range w.wish.Values {
				if w.table == s.want.table && len(s.Values) == 1 && v.First == s.First {
					continue
				}
				if u.table(w.table).Gives(v) {
					return &step{want: w, Read: planner.Read{First: v.First, Count: v.Words, Values: []int{k}}}
				}
			}
		}
	}
	return nil
}

// failing says for people how a read failed of a unit that answers others.
func failing(r request, err error) string {
	if isTimeout(err) {
		return "the device does not answer this read, but answers others"
	}
	if isClosed(err) {
		return "the device closes the connection over this read, but answers others"
	}
	return fmt.Sprintf("the answer is not the %d asked for, though the device answers other reads: %v", r.count,
		plain.Network(err))
}

// spreadOut delays what is asked beyond the plan, so that no line has more than a few times the requests that
// are planned.
func (t *task) spreadOut(now time.Time) {
	if t.group.every > 0 {
		t.paced = now.Add(t.group.every / time.Duration(extraRequests*max(1, t.planned)))
	}
}

// extraRequests is how many requests beyond the plan there are at most, for each that is planned.
const extraRequests = 3
