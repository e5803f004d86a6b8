package window

import (
	"math"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
)

// condition is low <= value <= high.
type condition struct{ low, high float64 }

func (c condition) holds(v float64) bool { return v >= c.low && v <= c.high }

// spells are the stretches of a span of time in which a condition held: from a reading
// that meets it to the next that does not, or until nothing is known any more.
type spells struct {
	length      int64 // of the span
	held        int64 // in all
	longest     int64
	head, tail  int64 // the stretches that begin with the span, and that end with it
	times       int
	first, last int64 // when the first began and the last ended
}

// then takes in the spells of a later span; joined says that it begins where this ends.
func (s *spells) then(o spells, joined bool) {
	if s.length == 0 {
		*s = o
		return
	}
	across := int64(0)
	if joined && s.tail > 0 && o.head > 0 {
		across = s.tail + o.head
		s.times--
	}
	s.longest = max(s.longest, o.longest, across)
	if s.head == s.length && across > 0 {
		s.head = across
	}
	if o.tail == o.length && across > 0 {
		s.tail = across
	} else {
		s.tail = o.tail
	}
	if s.times += o.times; o.times > 0 {
		if s.first == 0 {
			s.first = o.first
		}
		s.last = o.last
	}
	s.length += o.length
	s.held += o.held
}

// run is the spells of one segment as they come.
type run struct {
	spells
	from, open int64 // of the segment; of the stretch that goes on, -1 without one
}

func (r *run) begin(from int64) { *r = run{from: from, open: -1} }

// extend goes on with a stretch, or begins one, of which so much is known to hold.
func (r *run) extend(from, to, held int64) {
	if to <= from {
		return
	}
	if r.open < 0 {
		r.open = from
		if r.times++; r.first == 0 {
			r.first = from
		}
	}
	r.held += held
	r.longest = max(r.longest, to-r.open)
	r.last = to
	if r.open == r.from {
		r.head = to - r.open
	}
}

func (r *run) close() { r.open = -1 }

func (r *run) end(to int64) spells {
	out := r.spells
	out.length = to - r.from
	if r.open >= 0 && r.last == to {
		out.tail = to - r.open
	}
	return out
}

// track follows one condition through the rows of a series. From readings it is exact;
// from summaries it knows what is sure, and what may be at most.
type track struct {
	condition
	fresh, now int64
	known      bool
	value      float64
	at, cursor int64
	sure, may  run
}

func (t *track) begin(from int64) {
	t.sure.begin(from)
	t.may.begin(from)
	t.cursor = from
}

func (t *track) before(at int64, v float64) { t.known, t.value, t.at = true, v, at }

// holdUntil takes in that the last reading goes on to hold.
func (t *track) holdUntil(to int64) {
	until := t.cursor
	if t.known {
		until = max(t.cursor, min(to, t.at+t.fresh, t.now))
	}
	if t.known && t.holds(t.value) {
		t.sure.extend(t.cursor, until, until-t.cursor)
		t.may.extend(t.cursor, until, until-t.cursor)
	}
	if until < to {
		t.close()
	}
	t.cursor = max(t.cursor, to)
}

func (t *track) close() {
	t.sure.close()
	t.may.close()
}

func (t *track) end(to int64) (sure, may spells) {
	t.holdUntil(to)
	return t.sure.end(to), t.may.end(to)
}

func (t *track) readings(b column.Block, i, k int) {
	for ; i < k; i++ {
		t.holdUntil(b.Times[i])
		t.latest(b.Times[i], b.Cols[0][i])
	}
}

func (t *track) latest(at int64, v float64) {
	if t.before(at, v); !t.holds(v) {
		t.close()
	}
}

func (t *track) summaries(b column.Block, i, k int, width int64) {
	for ; i < k; i++ {
		s := rollup.FromRow(b, i, "")
		start := b.Times[i]
		t.summary(start, start-start%width+width, &s)
	}
}

// summary takes in the readings of from <= time < to. What holds before the first is
// known, and after the last; in between, only the lowest and the highest and how much of
// it is covered.
func (t *track) summary(from, to int64, s *rollup.Summary) {
	t.holdUntil(from)
	before := int64(0)
	if t.known {
		before = max(0, min(s.FirstAt, t.at+t.fresh)-from)
	}
	t.holdUntil(s.FirstAt)
	after := min(to, s.LastAt+t.fresh) - s.LastAt
	covered := min(max(0, int64(s.Covered)-before-after), s.LastAt-s.FirstAt)
	all := t.holds(s.Min) && t.holds(s.Max)
	some := s.Max >= t.low && s.Min <= t.high
	if s.LastAt > s.FirstAt {
		switch gapless := covered == s.LastAt-s.FirstAt; {
		case all && gapless:
			t.sure.extend(s.FirstAt, s.LastAt, covered)
		case all:
			t.sure.held += covered
			t.sure.close()
		default:
			t.sure.close()
		}
		if some {
			t.may.extend(s.FirstAt, s.LastAt, covered)
		} else {
			t.may.close()
		}
	}
	t.cursor = s.LastAt
	t.latest(s.LastAt, s.Last)
}

// The two ends of a condition that a value must lie beyond, and not on.
func above(v float64) condition { return condition{math.Nextafter(v, math.Inf(1)), math.Inf(1)} }
func below(v float64) condition { return condition{math.Inf(-1), math.Nextafter(v, math.Inf(-1))} }
