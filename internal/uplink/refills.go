package uplink

import (
	"fmt"
	"time"
)

// refills bounds how often everything is sent again. A central that says again and again that it lost something may
// be two that answer at one address, or may not keep what it says it stores; everything over and over would only fill
// the link.
type refills struct {
	next  time.Time     // not before it
	pause time.Duration // from the last one to next
}

const (
	leastRefill   = time.Minute
	longestRefill = time.Hour
)

// due reports whether everything may be sent again now.
func (r *refills) due(now time.Time) bool { return !now.Before(r.next) }

// began notes that everything is sent again. The pause doubles each time, and is short again once twice as long
// nothing was lost.
func (r *refills) began(now time.Time) {
	if r.pause == 0 || now.Sub(r.next) > 2*r.pause {
		r.pause = leastRefill
	} else {
		r.pause = min(2*r.pause, longestRefill)
	}
	r.next = now.Add(r.pause)
}

// TooOftenError says that the central wants everything again before it is due.
type TooOftenError struct{ Next time.Time }

func (t *TooOftenError) Error() string {
	return fmt.Sprintf("the central says again that it lost what it had acknowledged; everything is sent again at %s at the earliest. Do two centrals answer at this address, or does its disk not keep what it writes?",
		t.Next.UTC().Format(time.RFC3339))
}
