package access

import (
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// refusals bounds what refused attempts write: the first of a kind is written at once, those
// that follow are counted and written together. However many there are, and from however
// many addresses, the audit grows slowly.
type refusals struct {
	mu      *sync.Mutex
	pending map[refusedAttempt]*pending
	room    *rate.Limiter
}

type refusedAttempt struct{ Who, Kind, From, Action, Target, Reason string }

type pending struct {
	since time.Time
	more  int
}

const (
	refusedTogether = 5 * time.Minute
	mostPending     = 1000
)

func newRefusals() refusals {
	return refusals{new(sync.Mutex), map[refusedAttempt]*pending{}, rate.NewLimiter(1, 60)}
}

// others stands for those that there are too many of to be told apart.
var others = refusedAttempt{
	Who:    "many",
	Kind:   "anyone",
	From:   "many addresses",
	Action: "many",
	Reason: "too many attempts were refused to name them one by one",
}

// Refuse notes an attempt that was refused.
func (b *Book) Refuse(by By, action, target, reason string) {
	by.Who, target, reason = short(by.Who), short(target), short(reason)
	r := &b.refused
	one := refusedAttempt{by.Who, by.Kind, by.From, action, target, reason}
	r.mu.Lock()
	p := r.pending[one]
	if p == nil && (len(r.pending) >= mostPending || !r.room.Allow()) {
		one = others
		p = r.pending[one]
	}
	if p != nil {
		p.more++
		r.mu.Unlock()
		return
	}
	r.pending[one] = &pending{since: b.now()}
	if one == others {
		r.pending[one].more = 1
		r.mu.Unlock()
		return
	}
	r.mu.Unlock()
	_ = b.Note(by, Entry{Action: action, Target: target, Outcome: Refused, Reason: reason}) // reported as a trouble
}

// short cuts a text from an untrusted caller for storage.
func short(text string) string { return strings.ToValidUTF8(text[:min(len(text), longestReason)], "") }

const longestReason = 500 // bytes

// writeRefusals writes how often what was refused came again; all: also of those that may
// still come.
func (b *Book) writeRefusals(all bool) {
	r := &b.refused
	due := map[refusedAttempt]int{}
	r.mu.Lock()
	for one, p := range r.pending {
		if all || b.now().Sub(p.since) >= refusedTogether {
			due[one] = p.more
			delete(r.pending, one)
		}
	}
	r.mu.Unlock()
	for one, more := range due {
		if more > 0 {
			_ = b.Note(By{one.Who, one.Kind, one.From}, Entry{
				Action:  one.Action,
				Target:  one.Target,
				Outcome: Refused,
				Reason:  one.Reason,
				Times:   more,
			})
		}
	}
}
