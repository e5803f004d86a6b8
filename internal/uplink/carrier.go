package uplink

import (
	"context"
	"time"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/wire"
)

// Carrier brings loads to where an uplink sends. One goroutine uses it.
type Carrier interface {
	// Most is how many summaries the next load may have.
	Most() int
	// Carry brings a load there and returns once it is known what came of it. Without an error
	// all of it has arrived but for what the answer refuses. An UnreadableError says that it can
	// never be taken as it is. An empty load is a sign of life.
	Carry(ctx context.Context, l Load) (Answer, error)
	// Smaller makes the next loads smaller, to find what cannot be read.
	Smaller()
}

// Load is what is carried at once.
type Load struct {
	Runs    []wire.Run
	Of      []marks.Of // of Runs[i]
	Rows    int
	Records wire.Records
	Backlog outbox.Backlog // of the uplink, with this load
	Every   time.Duration  // until the next load, if that is long
	Peer    []byte         // what is known of where it goes, as of the last answer that counted
}

// Empty reports whether there is nothing to carry.
func (l *Load) Empty() bool { return l.Rows == 0 && len(l.Records) == 0 }

// Answer is what came of a load.
type Answer struct {
	Peer           []byte // what is known from now on of where it went
	Refused        []wire.RefusedRun
	RefusedRecords []wire.RefusedRecord
	Everything     string         // why everything has to be sent again; "": it does not
	Twin           string         // another process sends under the same name; empty when none does
	Above          []string       // names of where it went, and of where that sends to
	Requests       []wire.Request // what is asked of this service
}

// Asker is a carrier that can ask where it sends to what differs there.
type Asker interface {
	Compare(ctx context.Context, in wire.Compare) (wire.Compared, error)
}

// Waiter is a carrier that can be told that something is asked of this service.
type Waiter interface {
	// Wait returns once something is, or nothing was for a while. It may run beside Carry.
	Wait(ctx context.Context) (asked bool, err error)
}

// UnreadableError says that what a load went to cannot read it.
type UnreadableError struct {
	Reason string
	Err    error
}

func (e *UnreadableError) Error() string { return e.Err.Error() }

func (e *UnreadableError) Unwrap() error { return e.Err }
