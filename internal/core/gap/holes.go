package gap

import (
	"slices"
	"time"
)

// Span is a time in which nothing was measured. One that goes on has no end yet: To is 0.
type Span struct{ From, To int64 }

// Open reports that it goes on.
func (s Span) Open() bool { return s.To == 0 }

// Rhythm is how a series should be heard.
type Rhythm struct {
	FreshFor time.Duration // how long a reading speaks
	Every    time.Duration // how often one comes; 0: not known
}

// Patience is how long after a reading the next may come without a gap between the two.
func (r Rhythm) Patience() int64 { return int64(max(2*r.FreshFor, 3*r.Every)) }

// Between returns the gap between two readings: from when the first speaks no more.
func (r Rhythm) Between(earlier, later int64) (Span, bool) {
	return Span{earlier + int64(r.FreshFor), later}, later-earlier > r.Patience()
}

// Seen is what was there of a series before readings came: its first and its last, 0 where there is none.
type Seen struct{ First, Last int64 }

// Found are the gaps that readings leave, made, or end. Nothing is asked of the readings that were there before.
type Found struct {
	Made    []Span          // that were not known
	Changed map[Span][]Span // of those known, what is left of them: none, one or more
}

// After returns what readings change of the gaps of a series. Their times ascend. Known are the gaps that end after
// the first of the times, or have not ended.
func After(seen Seen, times []int64, known []Span, rhythm Rhythm) Found {
	out := Found{Changed: map[Span][]Span{}}
	first, last := seen.First, seen.Last
	if first != 0 {
		if n, _ := slices.BinarySearch(times, first); n > 0 {
			out.between(append(slices.Clone(times[:n]), first), rhythm)
		}
	}
	into := map[Span][]int64{}
	for _, t := range times {
		switch {
		case last != 0 && t <= last:
			if i := slices.IndexFunc(known, func(s Span) bool { return !s.Open() && t >= s.From-int64(rhythm.FreshFor) && t < s.To }); i >= 0 {
				into[known[i]] = append(into[known[i]], t)
			}
			continue
		case last != 0:
			if open, ok := out.goingOn(known); ok {
				out.end(open, t)
			} else if s, ok := rhythm.Between(last, t); ok {
				out.Made = append(out.Made, s)
			}
		}
		last = t
	}
	for of, within := range into {
		out.Changed[of] = left(of, within, rhythm)
	}
	return out
}

// between finds the gaps between neighbours.
func (f *Found) between(times []int64, rhythm Rhythm) {
	for i := 1; i < len(times); i++ {
		if s, ok := rhythm.Between(times[i-1], times[i]); ok {
			f.Made = append(f.Made, s)
		}
	}
}

// goingOn returns the gap that has not ended.
func (f *Found) goingOn(known []Span) (open Span, ok bool) {
	i := slices.IndexFunc(known, Span.Open)
	if i < 0 {
		return open, false
	}
	_, ended := f.Changed[known[i]]
	return known[i], !ended
}

// end ends the gap that goes on.
func (f *Found) end(open Span, at int64) {
	f.Changed[open] = nil
	if at > open.From {
		f.Changed[open] = []Span{{open.From, at}}
	}
}

// left returns what of a gap is left when there are readings in it.
func left(of Span, within []int64, rhythm Rhythm) (out []Span) {
	from := of.From
	for _, t := range append(slices.Clone(within), of.To) {
		// A gap is as long as it has to be between two readings; of one that was known, the first part begins
		// where it began.
		if t-from > rhythm.Patience()-int64(rhythm.FreshFor) {
			out = append(out, Span{from, t})
		}
		from = t + int64(rhythm.FreshFor)
	}
	return out
}
