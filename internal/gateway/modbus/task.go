package modbus

import (
	"hash/fnv"
	"slices"
	"time"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/modbus/planner"
)

// task is the reading of one unit by one schedule.
type task struct {
	group  *group
	unit   *unit
	wants  []want
	spread time.Duration // phase of a schedule without one

	due     time.Time // point of the schedule; zero: only on demand
	planned int       // reads of this time
	gave    bool      // a read of this time was given
	barren  bool      // none was, the time before
	paced   time.Time // before it nothing is asked beyond the plan
	begun   bool
	brought brought
	left    []step   // reads of this time that are not done
	scaled  []scaled // values whose scale has not come yet
	scales  map[tableAddress]int16
	served  time.Time     // when it was last asked for something, for taking turns
	asked   chan<- result // by somebody who waits, on demand
	got     result
}

// brought are the readings of reads that are done.
type brought struct {
	Readings []reading.Reading
	Rejects  []reading.Reject
}

// want is the values of one table.
type want struct {
	table     table
	registers []register // one for each value; the scale registers of others have no series
	wish      planner.Wish
	plain     []planner.Read // the plan while nothing is known that it would have to heed; nil: not made yet
	noise     map[int]int    // how often in a row the read from an address was disturbed
}

// reads returns the requests that get the values now.
func (w *want) reads(f *planner.Facts, now time.Time) []planner.Read {
	if !f.Plain() {
		return w.wish.Reads(f, now)
	}
	if w.plain == nil {
		w.plain = w.wish.Reads(f, now)
	}
	return w.plain
}

type tableAddress struct {
	table   table
	address uint16
}

// scaled is a value that waits for its scale.
type scaled struct {
	register register
	words    []uint16
	at       int64
}

// deadline is by when a task should be done.
func (t *task) deadline() time.Time { return t.due.Add(t.group.every) }

// next sets the next point of the schedule after now. Points that have passed are skipped.
func (t *task) next(now time.Time) {
	t.begun, t.left, t.scaled, t.scales = false, nil, nil, nil
	if t.group.every == 0 {
		t.due = time.Time{}
		return
	}
	phase := t.group.phase
	if phase < 0 {
		phase = t.spread
	}
	// schedule points follow wall-clock time, the wait is measured by one that is never set.
	// It may wake a moment before its point on the wall, which is not to be taken twice.
	wall := now.UnixNano()
	if early := t.due.UnixNano() - wall; early > 0 && early < int64(t.group.every) && !t.due.IsZero() {
		wall += early
	}
	into := time.Duration(wall-int64(phase)) % t.group.every
	if into < 0 {
		into += t.group.every
	}
	t.due = now.Add(time.Duration(wall-now.UnixNano()) + t.group.every - into)
}

// begin makes the reads of one time.
func (t *task) begin(now time.Time) {
	t.begun, t.left, t.scales, t.got = true, nil, nil, result{}
	for i := range t.wants {
		w := &t.wants[i]
		reads := w.reads(&t.unit.table(w.table).Facts, now)
		t.left = slices.Grow(t.left, len(reads))
		for _, r := range reads {
			t.left = append(t.left, step{want: w, Read: r})
		}
	}
	t.planned, t.paced, t.gave = len(t.left), time.Time{}, false
}

// spreadOf returns a phase that is always the same for a line and a group, and another for others.
func spreadOf(names string, every time.Duration) time.Duration {
	h := fnv.New64a()
	_, _ = h.Write([]byte(names))
	return time.Duration(h.Sum64() % uint64(max(every, 1)))
}
