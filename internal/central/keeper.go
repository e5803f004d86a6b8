package central

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

const (
	lookEvery = time.Second
	sealEvery = time.Hour
)

// Run stores what comes until ctx ends.
func (r *Receiver) Run(ctx context.Context) error {
	r.committer.run(ctx)
	return nil
}

// Alive returns nil when the committing goroutine answers before ctx ends.
func (r *Receiver) Alive(ctx context.Context) error {
	select {
	case r.committer.asked <- struct{}{}:
		return nil
	case <-r.committer.ended:
		return nil
	case <-ctx.Done():
		return fmt.Errorf("the receiver does not answer: %w", ctx.Err())
	}
}

// Sealer is a store that is to be sealed now and then.
type Sealer interface {
	SealDue() bool
	SealIsShort() bool
	UnsealedRows() int
	Seal(ctx context.Context, how engine.Sealing) error
}

// stopWithin is how long a service that stops seals, at most.
const stopWithin = time.Second

func sealAtEnd(st Sealer) error {
	if !st.SealIsShort() {
		return nil
	}
	ctx, stop := context.WithTimeout(context.Background(), stopWithin)
	defer stop()
	if err := st.Seal(ctx, engine.Sealing{}); err != nil && ctx.Err() == nil {
		return err
	}
	return nil
}

// KeepSealed seals the store whenever it is due, until ctx ends. At the end it seals only when that is short:
// the journal has all rows, and the next start reads it. A process that is a
// gateway as well leaves this to its pipeline.
func KeepSealed(ctx context.Context, st Sealer, log *slog.Logger) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	last := time.Now()
	for {
		select {
		case <-tick.C:
			if !st.SealDue() && (time.Since(last) < sealEvery || st.UnsealedRows() == 0) {
				continue
			}
			if err := st.Seal(ctx, engine.Sealing{}); err != nil && ctx.Err() == nil {
				event.SealFailed.To(log, "error", err)
			}
			last = time.Now()
		case <-ctx.Done():
			return sealAtEnd(st)
		}
	}
}
