package pipeline

import (
	"sync/atomic"
	"time"
)

// arrival gives times of arrival, in whole microseconds, that ascend, so that two messages
// that came together stay two readings. More digits would only be noise, which takes room
// for good. When the clock is set back by more than a moment, the times follow it.
type arrival struct{ last atomic.Int64 }

// followAfter is how far the clock may be set back before the times follow.
const followAfter = int64(time.Second)

func (a *arrival) next(now time.Time) int64 {
	for {
		last := a.last.Load()
		t := now.UnixMicro() * 1000
		if t <= last && last-t < followAfter {
			t = last + 1000
		}
		if a.last.CompareAndSwap(last, t) {
			return t
		}
	}
}

const (
	fullHour  = time.Hour
	lookAgain = time.Second
)

// Arrive is the time of arrival of what just came. While the clock cannot be believed it
// waits, and so does the sender: what is not stamped cannot be stored, and must not be
// acknowledged. ErrStopped ends that.
func (p *Pipeline) Arrive() (int64, error) {
	if err := p.wait(p.judge.Unset); err != nil {
		return 0, err
	}
	return p.arrival.next(p.judge.Now()), nil
}

// FirstArrival is when a request came first: at, unless it has come before.
func (p *Pipeline) FirstArrival(request string, digest []byte, at int64) (int64, error) {
	return p.store.Pushes.FirstArrival(request, digest, at)
}

// Recall returns the state that a source saved under a name, or nil.
func (p *Pipeline) Recall(name string) ([]byte, error) { return p.store.State(name) }

// Remember keeps something small for a source.
func (p *Pipeline) Remember(name string, payload []byte) error {
	return p.store.PutState(name, payload)
}

// untilSure waits while it is in doubt whether the clock is right.
func (p *Pipeline) untilSure() error { return p.wait(p.judge.Doubt) }

func (p *Pipeline) wait(wrong func() string) error {
	for wrong() != "" {
		select {
		case <-time.After(lookAgain):
		case <-p.stopped:
			return ErrStopped
		}
	}
	return nil
}

// DidReplay notes that rejects count after all.
func (p *Pipeline) DidReplay(ids []uint64) error { return p.store.Rejects.Replayed(ids, p.judge.Now()) }
