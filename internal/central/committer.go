package central

import (
	"context"
	"time"

	"nexocumula/internal/store/engine"
)

// committer writes what many gateways send with few commits: the gateways wait for the
// answer, but nobody waits for the gateways. A batch that comes alone is written at once.
type committer struct {
	store Store
	queue chan *request
	asked chan struct{} // whether it gets on
	ended chan struct{}
}

type request struct {
	batch engine.Batch
	rows  int // summaries, and readings that were asked for
	done  chan error
}

const (
	gatherFor  = 500 * time.Millisecond
	mostAtOnce = 64
	quiet      = time.Second // after a commit, the next batch is not alone
)

func newCommitter(st Store) *committer {
	return &committer{store: st, queue: make(chan *request), asked: make(chan struct{}), ended: make(chan struct{})}
}

// write returns once the batch, which has so many rows, is on disk.
func (c *committer) write(b engine.Batch, rows int) error {
	r := &request{batch: b, rows: rows, done: make(chan error, 1)}
	select {
	case c.queue <- r:
		return <-r.done
	case <-c.ended:
		return context.Canceled
	}
}

// run commits until ctx ends.
func (c *committer) run(ctx context.Context) {
	defer close(c.ended)
	var last time.Time
	for {
		select {
		case first := <-c.queue:
			all := []*request{first}
			if time.Since(last) < quiet {
				all = c.gather(all, last.Add(gatherFor))
			}
			c.commit(context.WithoutCancel(ctx), all) // who waits for it is to know how it ends
			last = time.Now()
		case <-c.asked:
		case <-ctx.Done():
			return
		}
	}
}

// gather takes what comes until a time.
func (c *committer) gather(all []*request, until time.Time) []*request {
	timer := time.NewTimer(time.Until(until))
	defer timer.Stop()
	rows := all[0].rows
	for len(all) < mostAtOnce && rows < wellFilled {
		select {
		case r := <-c.queue:
			all = append(all, r)
			rows += r.rows
		case <-timer.C:
			return all
		}
	}
	return all
}

// wellFilled is how many rows are worth a commit: whoever catches up does not wait.
const wellFilled = 2000

func (c *committer) commit(ctx context.Context, all []*request) {
	b := engine.Batch{Incoming: true}
	for _, r := range all {
		b.Entries = append(b.Entries, r.batch.Entries...)
		b.Sketches = append(b.Sketches, r.batch.Sketches...)
		b.Also = append(b.Also, r.batch.Also...)
	}
	err := c.store.Append(ctx, b)
	for _, r := range all {
		r.done <- err
	}
}
