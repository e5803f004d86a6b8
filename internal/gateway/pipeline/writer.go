package pipeline

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"

	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

// writer writes to the store, however long that takes.
type writer struct {
	log     *slog.Logger
	trouble atomic.Pointer[trouble] // what the store says while it cannot be written
}

// trouble is why an attempt to write failed.
type trouble struct {
	text  string
	since time.Time
	at    time.Time
	held  bool // nothing was tried
}

// failing returns the store's error while it cannot be written, or "", and since when.
func (w *writer) failing() (text string, since time.Time) {
	if t := w.trouble.Load(); t != nil {
		return t.text, t.since
	}
	return "", since
}

// hold notes that nothing is taken in; who waits for a commit waits on.
func (w *writer) hold(why string) {
	now := &trouble{text: why, since: time.Now(), at: time.Now(), held: true}
	if before := w.trouble.Load(); before != nil {
		now.since = before.since
	}
	w.trouble.Store(now)
}

// release ends a hold.
func (w *writer) release() {
	if t := w.trouble.Load(); t != nil && t.held {
		w.trouble.Store(nil)
	}
}

// retryWithin is how long after an attempt that failed the next has been made.
const retryWithin = 15 * time.Second

// tries reports whether an attempt to write has failed lately, after which another follows.
func (w *writer) tries() bool {
	t := w.trouble.Load()
	return t != nil && time.Since(t.at) < retryWithin
}

// appender takes batches.
type appender interface {
	Append(ctx context.Context, b engine.Batch) error
}

// write writes the batch.
func (w *writer) write(ctx context.Context, to appender, batch engine.Batch) error {
	_, err := untilWritten(ctx, w, func() (struct{}, error) { return struct{}{}, to.Append(ctx, batch) })
	return err
}

// untilWritten writes, and while that fails (a full disk) tries again, so that senders
// wait instead of losing what they sent. Only ctx ends it.
func untilWritten[T any](ctx context.Context, w *writer, write func() (T, error)) (T, error) {
	v, err := backoff.Retry(ctx, write,
		backoff.WithMaxElapsedTime(0),
		backoff.WithBackOff(&backoff.ExponentialBackOff{
			InitialInterval:     100 * time.Millisecond,
			Multiplier:          2,
			RandomizationFactor: 0.3,
			MaxInterval:         5 * time.Second,
		}),
		backoff.WithNotify(func(err error, wait time.Duration) {
			now := &trouble{err.Error(), time.Now(), time.Now(), false}
			if before := w.trouble.Load(); before != nil {
				now.since = before.since
			}
			w.trouble.Store(now)
			event.StoreUnwritten.To(w.log, "error", err, "in", wait)
		}))
	if err == nil {
		w.trouble.Store(nil)
	}
	return v, err
}
