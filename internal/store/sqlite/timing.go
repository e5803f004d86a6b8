package sqlite

import (
	"sync/atomic"
	"time"
)

// CommitBounds are the upper bounds of how commits are counted by how long they take.
var CommitBounds = [...]time.Duration{
	time.Millisecond, 2500 * time.Microsecond, 5 * time.Millisecond, 10 * time.Millisecond, 25 * time.Millisecond,
	50 * time.Millisecond, 100 * time.Millisecond, 250 * time.Millisecond, 500 * time.Millisecond,
	time.Second, 2500 * time.Millisecond, 5 * time.Second, 10 * time.Second,
}

// timing counts transactions as they end.
type timing struct {
	within [len(CommitBounds) + 1]atomic.Uint64 // the last: those that took longer
	total  atomic.Int64                         // ns
	failed atomic.Uint64
}

func (t *timing) took(d time.Duration, err error) {
	if err != nil {
		t.failed.Add(1)
		return
	}
	i := 0
	for i < len(CommitBounds) && d > CommitBounds[i] {
		i++
	}
	t.within[i].Add(1)
	t.total.Add(int64(d))
}

// Commits are transactions since the start.
type Commits struct {
	Count  uint64
	Within [len(CommitBounds)]uint64 // of them, those that took so long or less
	Total  time.Duration             // of all together
	Failed uint64                    // and are not in Count
}

// CommitTimes says how long transactions took since the start.
func (f *File) CommitTimes() (out Commits) {
	for i := range f.timing.within {
		if out.Count += f.timing.within[i].Load(); i < len(out.Within) {
			out.Within[i] = out.Count
		}
	}
	out.Total, out.Failed = time.Duration(f.timing.total.Load()), f.timing.failed.Load()
	return out
}
