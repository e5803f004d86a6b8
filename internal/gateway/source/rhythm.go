package source

import "time"

// rhythm learns how messages come, so that it is noticed when they do not any more.
type rhythm struct {
	last    time.Time
	beats   int
	longest time.Duration // between two messages lately
}

const (
	enoughBeats  = 10 // until what is usual is known
	brokenAfter  = 3  // times the longest distance lately
	leastSilence = time.Minute
)

// beat notes a message. Distances of long ago count less and less.
func (r *rhythm) beat(now time.Time) {
	if r.beats++; r.beats > 1 {
		r.longest = max(now.Sub(r.last), r.longest-r.longest/100)
	}
	r.last = now
}

// broken reports whether messages came regularly, and do not now.
func (r *rhythm) broken(now time.Time) bool {
	return r.beats >= enoughBeats && now.Sub(r.last) > max(leastSilence, brokenAfter*r.longest)
}
