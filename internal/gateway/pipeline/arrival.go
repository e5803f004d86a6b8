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

// Arrive returns the time of arrival of what just came. While the clock cannot be believed it
// waits, and so does the sender: what is not stamped cannot be stored, and must not be
// acknowledged. ErrStopped ends that.
func (in *intake) Arrive() (int64, error) {
	if err := in.wait(in.judge.Unset); err != nil {
		return 0, err
	}
	return in.arrival.next(in.judge.Now()), nil
}

// FirstArrival returns when a request came first: at, unless it has come before.
func (in *intake) FirstArrival(request string, digest []byte, at int64) (int64, error) {
	return in.kept.Pushes.FirstArrival(request, digest, at)
}

// Recall returns the state that a source saved under a name, or nil.
func (in *intake) Recall(name string) ([]byte, error) { return in.store.State(name) }

// Remember keeps something small for a source.
func (in *intake) Remember(name string, payload []byte) error {
	return in.store.PutState(name, payload)
}

// untilSure waits while it is in doubt whether the clock is right.
func (in *intake) untilSure() error { return in.wait(in.judge.Doubt) }

func (in *intake) wait(wrong func() string) error {
	for wrong() != "" {
		select {
		case <-time.After(lookAgain):
		case <-in.stopped:
			return ErrStopped
		}
	}
	return nil
}

// DidReplay notes that rejects count after all.
func (in *intake) DidReplay(ids []uint64) error { return in.kept.Rejects.Replayed(ids, in.judge.Now()) }
