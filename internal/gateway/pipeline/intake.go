package pipeline

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"

	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
	"nexocumula/internal/removal"
	"nexocumula/internal/rename"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
)

// intake makes of what sources read what counts: it knows the rules and what was last heard of each
// series. Its methods may be used at the same time.
type intake struct {
	store  intakeStore
	kept   records.Records
	writer *writer
	judge  *clock.Judge
	log    *slog.Logger

	removed *removal.Ranges // what persons removed, and what is not taken in again
	names   *rename.Names   // of series that had others

	rules    atomic.Pointer[rules]
	newRules atomic.Bool // what the rules say of series may be something else
	arrival  arrival
	memories sync.Map   // series.Path → *memory, of those that outlast rules
	said     sync.Map   // series.Path → series.Labels that its last message with labels said
	defining sync.Mutex // one new series at a time, so that their number stays bounded
	stopped  chan struct{}

	mostSeries int // maxSeries, but in tests
}

// intakeStore is what the intake asks of the store.
type intakeStore interface {
	Find(path series.Path) (engine.Series, bool)
	List(selector series.Selector) []engine.Series
	Count() int
	Read(ctx context.Context, series uint32, tier series.Tier, from, to int64) (column.Block, error)
	DefineKeeping(ctx context.Context, defs []series.Definition, keep engine.Keep) ([]uint32, error)
	Redefine(ctx context.Context, defs []series.Definition) ([]uint32, error)
	State(name string) ([]byte, error)
	PutState(name string, payload []byte) error
}

func newIntake(st *store.Store, out *writer, stopped chan struct{}, log *slog.Logger) (*intake, error) {
	in := &intake{
		store:      st,
		kept:       st.Records,
		writer:     out,
		judge:      st.Judge(),
		removed:    st.Removals,
		names:      st.Names,
		log:        log,
		stopped:    stopped,
		mostSeries: maxSeries,
	}
	return in, in.loadSaid()
}

// Use puts other rules in the place of those there were.
func (in *intake) Use(all []config.SeriesRule, keep []config.Keep) {
	in.rules.Store(&rules{rules: all, keep: keep, derivers: derivers(all), stored: in.stored})
	in.newRules.Store(true)
}

// untilStopped returns a context that ends when the pipeline stops.
func (in *intake) untilStopped() (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		select {
		case <-in.stopped:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}
