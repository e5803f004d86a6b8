package central

import (
	"context"
	"log/slog"
	"time"

	"nexocumula/internal/store"
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

// KeepSealed seals the store whenever it is due, until ctx ends. A process that is a
// gateway as well leaves this to its pipeline.
func KeepSealed(ctx context.Context, st *store.Store, log *slog.Logger) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	last := time.Now()
	for {
		select {
		case <-tick.C:
			if !st.SealDue() && (time.Since(last) < sealEvery || st.UnsealedRows() == 0) {
				continue
			}
			if err := st.Seal(nil); err != nil {
				log.Error("the journal could not be sealed; it goes on growing until that works", "error", err)
			}
			last = time.Now()
		case <-ctx.Done():
			return st.Seal(nil)
		}
	}
}
