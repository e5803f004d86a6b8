package access

import (
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

// take is the last use, and whether it is one that was not taken before.
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
