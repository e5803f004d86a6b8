package source

import (
	"sync/atomic"
	"time"
)

// arrival gives times of arrival that strictly ascend, so that two messages that
// came within one tick of the system's clock stay two readings. When the clock is set
// back, the times stand nearly still until it has caught up.
type arrival struct{ last atomic.Int64 }

func (a *arrival) next() int64 {
	for {
		last := a.last.Load()
		now := max(time.Now().UnixNano(), last+1)
		if a.last.CompareAndSwap(last, now) {
			return now
		}
	}
}
