package pipeline

import (
	"time"

	"nexocumula/internal/config"
)

const (
	fullCommit = 128                    // deliveries that are worth a commit at once
	worthIt    = 16                     // that are when nobody else comes
	together   = 100 * time.Microsecond // what comes within it comes together
	calm       = 8                      // times the usual distance between deliveries: nobody else will come
	leastCalm  = time.Millisecond
)

// waiting is the deliveries that wait for the next commit, and when that is due.
//
// Every commit writes a few kB, however little is in it. A lone sender is answered at once:
// one from whom alone the last commit was, or anybody when that is a while ago. When there
// are many, a commit waits until it is full, until
// nobody comes any more (senders that wait for their answers fall silent together), or
// until the pace is up.
type waiting struct {
	pace config.CommitDelay
	all  []*Delivery

	first, last time.Time // of the deliveries that wait, by arrival; first of those that are no polls
	firstPoll   time.Time
	messages    int // that are no polls

	before struct { // the last commit
		at         time.Time
		deliveries int
		sender     any
	}
}

// add takes a delivery.
func (w *waiting) add(d *Delivery) {
	w.all = append(w.all, d)
	if d.Polled {
		if w.firstPoll.IsZero() {
			w.firstPoll = d.came
		}
		return
	}
	if w.messages++; w.messages == 1 {
		w.first = d.came
	}
	w.last = d.came
}

// due returns when to commit what waits; zero when nothing does.
func (w *waiting) due() time.Time {
	if len(w.all) == 0 {
		return time.Time{}
	}
	if w.messages == 0 {
		return w.firstPoll.Add(w.pace.Polls)
	}
	if w.messages >= fullCommit || w.alone() {
		return w.first
	}
	latest := w.first.Add(w.pace.Messages)
	if since := w.before.at.Add(w.pace.Messages); since.Before(latest) {
		latest = since // those before have waited on our behalf
	}
	if w.messages > 1 {
		usual := w.last.Sub(w.first) / time.Duration(w.messages-1)
		silent := w.last.Add(max(leastCalm, calm*usual))
		if half := w.before.at.Add(w.pace.Messages / 2); w.messages < worthIt && silent.Before(half) {
			silent = half // a busy machine delivers in small heaps, which are not worth a commit each
		}
		if silent.Before(latest) {
			latest = silent
		}
	}
	if !w.firstPoll.IsZero() {
		if polls := w.firstPoll.Add(w.pace.Polls); polls.Before(latest) {
			latest = polls
		}
	}
	return latest
}

// look returns when to see whether more has come: when a commit is due or, after the first
// message, which says nothing of those that follow, a moment later.
func (w *waiting) look(now time.Time) time.Time {
	due := w.due()
	if soon := w.first.Add(leastCalm); w.messages == 1 && soon.After(now) && soon.Before(due) {
		return soon
	}
	return due
}

// alone reports whether the one that waits is the only one there is.
func (w *waiting) alone() bool {
	if w.messages > 1 && w.last.Sub(w.first) > together {
		return false
	}
	if w.first.Sub(w.before.at) >= w.pace.Messages {
		return true
	}
	return w.messages == 1 && w.before.deliveries == 1 && w.before.sender == w.sender()
}

// sender returns the sender of the only delivery that is no poll.
func (w *waiting) sender() any {
	for _, d := range w.all {
		if !d.Polled {
			return d.Sender
		}
	}
	return nil
}

// take removes and returns all waiting deliveries in the order of arrival.
func (w *waiting) take(now time.Time) []*Delivery {
	all := w.all
	w.before.at, w.before.deliveries, w.before.sender = now, w.messages, w.sender()
	w.all = make([]*Delivery, 0, min(2*len(all), 1024))
	w.messages, w.firstPoll = 0, time.Time{}
	return all
}
