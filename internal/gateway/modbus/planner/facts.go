package planner

import (
	"math"
	"slices"
	"time"
)

// Facts holds what a device has shown of one of its tables. It survives restarts.
type Facts struct {
	Given    int           `json:"given,omitempty"`    // longest read that it gave
	Short    int           `json:"short,omitempty"`    // shortest that was too long for it; 0: none
	ShortAt  time.Time     `json:"short_at,omitzero"`  // when it was
	Doubted  int           `json:"doubted,omitempty"`  // Short, while a longer read is tried again
	Refused  []RefusedRead `json:"refused,omitempty"`  // none covers another
	Readable []Run         `json:"readable,omitempty"` // addresses that were given, in order, apart
	changed  bool
}

// Run is some addresses in a row.
type Run struct {
	First int `json:"first"`
	End   int `json:"end"`
}

func (r Run) covers(o Run) bool { return r.First <= o.First && o.End <= r.End }

// RefusedRead is a read that the device did not give.
type RefusedRead struct {
	Run
	Alone bool      `json:"alone,omitempty"` // it was for a single value, which is missing then
	Tries int       `json:"tries,omitempty"` // in a row
	Since time.Time `json:"since"`
	Again time.Time `json:"again"` // when to try it again
}

const (
	// DoubtAfter is when a refusal is tried again: devices are exchanged and set up anew.
	DoubtAfter   = 24 * time.Hour
	missingAgain = time.Minute // the first time a single value is tried again; then twice as long
	mostRefusals = 10_000
	mostRuns     = 10_000
)

// Changed says whether anything was learned since it was last asked.
func (f *Facts) Changed() bool {
	was := f.changed
	f.changed = false
	return was
}

// Plain reports whether nothing of a table is known that a plan would have to heed.
func (f *Facts) Plain() bool { return f.Short == 0 && len(f.Refused) == 0 }

// most returns how long a read may be: half way between what was given and what was refused, so
// that the limit is found within a few tries.
func (f *Facts) most(longest int) int {
	if f.Short == 0 {
		return longest
	}
	return max(1, min((f.Given+f.Short)/2, longest))
}

// DidGive notes that a read was answered.
func (f *Facts) DidGive(r Read) {
	run := Run{r.First, r.end()}
	if r.Count > f.Given {
		f.Given, f.changed = r.Count, true
		if f.Given >= f.Short {
			f.Short, f.ShortAt = 0, time.Time{}
		}
		if f.Given >= f.Doubted {
			f.Doubted = 0
		}
	}
	if before := len(f.Refused); before > 0 {
		f.Refused = slices.DeleteFunc(f.Refused, func(o RefusedRead) bool { return run.covers(o.Run) })
		f.changed = f.changed || len(f.Refused) != before
	}
	if f.add(run) {
		f.changed = true
		f.explain(time.Time{})
	}
}

// add notes addresses as readable; it says whether any was new.
func (f *Facts) add(run Run) bool {
	if f.readable(run.First, run.End) || len(f.Readable) > mostRuns {
		return false
	}
	joins := func(o Run) bool { return o.First <= run.End && run.First <= o.End }
	for _, o := range f.Readable {
		if joins(o) {
			run = Run{min(run.First, o.First), max(run.End, o.End)}
		}
	}
	f.Readable = slices.DeleteFunc(f.Readable, joins)
	i, _ := slices.BinarySearchFunc(f.Readable, run.First, func(o Run, first int) int { return o.First - first })
	f.Readable = slices.Insert(f.Readable, i, run)
	return true
}

func (f *Facts) readable(first, end int) bool {
	i, at := slices.BinarySearchFunc(f.Readable, first, func(o Run, first int) int { return o.First - first })
	if !at {
		i-- // the last one that begins before
	}
	return i >= 0 && f.Readable[i].covers(Run{first, end})
}

// Gave reports whether a read like this was answered before, as a whole or in longer ones.
func (f *Facts) Gave(r Read) bool { return r.Count <= f.Given && f.readable(r.First, r.end()) }

// Gives reports whether a value was given, and not refused since.
func (f *Facts) Gives(v Value) bool { return f.readable(v.First, v.end()) && f.refusedAlone(v) == nil }

// DidRefuse notes that a read was refused. Short of being told so, it stands for a day; a
// value that is refused by itself is tried earlier, as it is missed.
func (f *Facts) DidRefuse(r Read, now time.Time) {
	f.changed = true
	fresh := RefusedRead{Run: Run{r.First, r.end()}, Alone: len(r.Values) == 1, Since: now, Again: now.Add(DoubtAfter)}
	for _, o := range f.Refused {
		if o.Run == fresh.Run {
			fresh.Since, fresh.Tries = o.Since, o.Tries
		}
	}
	if fresh.Alone {
		fresh.Again = now.Add(min(DoubtAfter, missingAgain<<min(fresh.Tries, 20)))
		fresh.Tries++
	}
	if !fresh.Alone && slices.ContainsFunc(f.Refused,
		func(o RefusedRead) bool { return o.Run != fresh.Run && fresh.covers(o.Run) }) {
		return // another refusal says so already
	}
	f.Refused = slices.DeleteFunc(f.Refused, func(o RefusedRead) bool {
		return o.covers(fresh.Run) && (!o.Alone || o.Run == fresh.Run)
	})
	if len(f.Refused) < mostRefusals {
		f.Refused = append(f.Refused, fresh)
	}
	f.explain(now)
}

// explain takes refusals of addresses that were all given at other times for what they
// must be: too long.
func (f *Facts) explain(now time.Time) {
	f.Refused = slices.DeleteFunc(f.Refused, func(o RefusedRead) bool {
		n := o.End - o.First
		if o.Alone || n <= f.Given || !f.readable(o.First, o.End) {
			return false
		}
		if f.Doubted > f.Given && n >= f.Doubted { // as it was before
			n = f.Doubted
		}
		if f.Short == 0 || n < f.Short {
			f.Short, f.ShortAt, f.Doubted = n, now, 0
			if now.IsZero() {
				f.ShortAt = o.Since
			}
		}
		return true
	})
}

// expire gives up what was learned long ago, one refusal at a time: if nothing has
// changed, that costs one request.
func (f *Facts) expire(now time.Time) {
	if f.Short > 0 && now.Sub(f.ShortAt) >= DoubtAfter {
		f.Doubted, f.Short, f.changed = f.Short, 0, true
		return
	}
	for i, o := range f.Refused {
		if !o.Alone && !now.Before(o.Again) {
			f.Refused = slices.Delete(f.Refused, i, i+1)
			f.changed = true
			return
		}
	}
}

func (f *Facts) refusedAlone(v Value) *RefusedRead {
	for i, o := range f.Refused {
		if o.Alone && o.Run == (Run{v.First, v.end()}) {
			return &f.Refused[i]
		}
	}
	return nil
}

// firstEnds are, for each value in its order, where the first refusal ends that begins at it
// or later: a read from there on must not reach it.
func (f *Facts) firstEnds(order []int, values []Value) []int {
	out := make([]int, len(order))
	refused := slices.Clone(f.Refused)
	slices.SortFunc(refused, func(a, b RefusedRead) int { return b.First - a.First })
	next, end := 0, math.MaxInt
	for j := len(order) - 1; j >= 0; j-- {
		for next < len(refused) && refused[next].First >= values[order[j]].First {
			end = min(end, refused[next].End)
			next++
		}
		out[j] = end
	}
	return out
}
