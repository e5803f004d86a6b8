package access

import (
	"math"
	"sync"
	"time"
)

// use is when and from where something was used last.
type use struct {
	mu    sync.Mutex
	at    int64
	from  string
	fresh bool // not written down yet
}

// touch notes that it is used now.
func (u *use) touch(now time.Time, from string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.at, u.from, u.fresh = now.UnixNano(), from, true
}

func (u *use) last() (at int64, from string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.at, u.from
}

// take returns the last use, and whether it is one that was not taken before.
func (u *use) take() (at int64, from string, fresh bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	fresh, u.fresh = u.fresh, false
	return u.at, u.from, fresh
}

func timeOf(ns int64) time.Time {
	if ns == 0 {
		return time.Time{}
	}
	return time.Unix(0, ns).UTC()
}

// nanoseconds returns a time as the tables have it: one that is too far away for them is the
// furthest there is.
func nanoseconds(t time.Time) int64 {
	switch first, last := time.Unix(0, math.MinInt64), time.Unix(0, math.MaxInt64); {
	case t.Before(first):
		return math.MinInt64
	case t.After(last):
		return math.MaxInt64
	}
	return t.UnixNano()
}
