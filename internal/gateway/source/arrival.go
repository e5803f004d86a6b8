package source

import (
	"sync/atomic"
	"time"
)

// arrival gives times of arrival, in whole microseconds, that strictly ascend, so that
// two messages that came together stay two readings. More digits would only be noise,
// which takes room for good. When the clock is set back, the times stand nearly still
// until it has caught up.
type arrival struct{ last atomic.Int64 }

func (a *arrival) next() int64 {
	for {
		last := a.last.Load()
		now := max(time.Now().UnixMicro()*1000, last+1000)
		if a.last.CompareAndSwap(last, now) {
			return now
		}
	}
}
