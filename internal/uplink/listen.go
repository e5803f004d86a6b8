package uplink

import (
	"context"
	"errors"
	"sync"
	"time"

	"nexocumula/internal/event"
)

const (
	listenAgain  = time.Second // after something was asked: what asks is to have its answer first
	listenLater  = 10 * time.Second
	listenSeldom = time.Hour // of who does not know of requests
)

// UnknownError says that where an uplink sends to knows nothing of requests.
type UnknownError struct{}

func (UnknownError) Error() string { return "the central knows nothing of requests" }

// listen waits beside the sender for what is asked of this service, and has the sender speak up at once. What it
// returns ends that.
func (s *Sender) listen(ctx context.Context) (end func()) {
	waiter, ok := s.carrier.(Waiter)
	if !ok || s.from.Requests == nil {
		return func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	var running sync.WaitGroup
	running.Go(func() {
		for ctx.Err() == nil {
			// On a thin link the sender speaks up when its time has come, and asking meanwhile would only use the link.
			seldom := s.pause()
			pause := listenAgain
			if seldom > signOfLife {
				pause = seldom
			} else if s.Tally().Up { // else the sender itself tries again
				asked, err := waiter.Wait(ctx)
				if asked {
					s.outbox.WakeUp()
				}
				if errors.Is(err, UnknownError{}) {
					pause = listenSeldom
				} else if err != nil && ctx.Err() == nil {
					event.ListenFailed.To(s.log, "error", err)
					pause = listenLater
				}
			}
			select {
			case <-time.After(pause):
			case <-ctx.Done():
			}
		}
	})
	return func() { cancel(); running.Wait() }
}
