package pipeline

import (
	"cmp"
	"context"
	"log/slog"
	"sync"

	"nexocumula/internal/clock"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
)

// sealer seals the store beside the commits, with what only this process knows of the rows that go.
type sealer struct {
	store  sealerStore
	roller *roller
	intake *intake
	judge  *clock.Judge
	log    *slog.Logger

	sealing sync.Mutex // held while a seal runs
	ctx     context.Context
	stop    context.CancelFunc // ends ctx, and a seal with it
}

// sealerStore is what the sealer asks of the store.
type sealerStore interface {
	Get(id uint32) (engine.Series, bool)
	SealDue() bool
	SealIsShort() bool
	Seal(ctx context.Context, how engine.Sealing) error
}

// due reports whether the store has grown enough to be sealed.
func (s *sealer) due() bool { return s.store.SealDue() }

// seal moves the store's tray into chunks, beside the commits, unless it is being done.
func (s *sealer) seal() {
	if s.sealing.TryLock() {
		s.sealNow(s.ctx) // it outlives what called for it
	}
}

// sealNow seals while sealing is held, which ends with it. The windows still open go into
// the store with it: their readings leave the journal, from which a restart would know
// them.
func (s *sealer) sealNow(ctx context.Context) (done <-chan struct{}) {
	ended, begun := make(chan struct{}), make(chan struct{})
	state, err := s.roller.pending.Save()
	said, saidErr := s.intake.saveSaid()
	err = cmp.Or(err, saidErr)
	settled := s.settled()
	go func() {
		defer close(ended)
		defer s.sealing.Unlock()
		if err == nil {
			err = s.store.Seal(ctx, engine.Sealing{
				Begun:   begun,
				Settled: settled,
				States:  []sqlite.State{{Name: pendingState, Payload: state}, said},
			})
		} else {
			close(begun)
		}
		if err != nil && ctx.Err() == nil {
			event.SealFailed.To(s.log, "error", err)
		}
	}()
	<-begun // the state belongs to the rows that leave now, not to later ones
	return ended
}

// settled says, as of now, before which time readings of a series are in no window that is still to
// be made, and no late ones are expected any more.
func (s *sealer) settled() func(id uint32) int64 {
	oldest := s.roller.pending.Oldest(func(id uint32) series.Tier {
		known, _ := s.store.Get(id)
		return known.Tiers.Narrowest()
	})
	now := s.judge.Now().UnixNano()
	return func(id uint32) int64 {
		known, _ := s.store.Get(id)
		until := now - int64(engine.Settling(&known.Definition)) // whatever a clock that is ahead says
		if start, ok := oldest[id]; ok {
			return min(start, until)
		}
		return until
	}
}
