package pipeline

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

// Delivery carries the readings and rejects of one message or poll.
type Delivery struct {
	Readings []reading.Reading // as their source reads them, not yet calibrated and screened
	Rejects  []reading.Reject
	Ended    []series.Path // who measures them said that it goes, at EndedAt, nanoseconds since 1970
	EndedAt  int64
	Sender   any  // whoever waits for Done, comparable; nil when nobody does
	Polled   bool // we asked for it: nobody waits
	Again    bool // it was rejected before: what is rejected again is on disk already

	// Done, if set, is called once: with nil when everything is on disk, with an
	// error when it is not and will not be. It must not block.
	Done func(error)

	came     time.Time // into the inbox
	screened []screened
}

// Pipeline is a gateway's way from sources to disk. Run must be running for Submit to
// make progress.
type Pipeline struct {
	store    *store.Store
	judge    *clock.Judge
	rules    atomic.Pointer[rules]
	newRules atomic.Bool // what the rules say of series may be something else
	log      *slog.Logger
	arrival  arrival

	inbox      inbox
	errands    chan func()
	stopped    chan struct{}
	giveUp     sync.Once
	waiting    waiting          // owned by Run
	pending    *rollup.Pending  // owned by Run
	fills      map[uint32]*fill // by series; owned by Run
	handedOver time.Time        // when some last got their tiers; owned by Run
	memories   sync.Map         // series.Path → *memory, of those that outlast rules
	sealing    sync.Mutex       // held while a seal runs
	said       sync.Map         // series.Path → series.Labels that its last message with labels said
	defining   sync.Mutex       // one new series at a time, so that their number stays bounded

	mostSeries int // maxSeries, but in tests

	accepted, rejected atomic.Uint64
	filling            atomic.Int64           // series that get other tiers
	trouble            atomic.Pointer[string] // what the store says while it cannot be written
}

// New makes a pipeline into st. Readings of a series are screened by the first rule
// that matches it; those older than what is kept would spoil the summaries of readings
// that are gone, and do not count.
func New(st *store.Store, settings config.Gateway, log *slog.Logger) (*Pipeline, error) {
	p := &Pipeline{
		store: st, judge: st.Judge(), log: log, fills: map[uint32]*fill{},
		inbox: newInbox(), errands: make(chan func()), stopped: make(chan struct{}),
		waiting: waiting{pace: settings.Pace}, pending: rollup.NewPending(), mostSeries: maxSeries,
	}
	if err := p.loadSaid(); err != nil {
		return nil, err
	}
	p.Use(settings.Rules, settings.Keep)
	if err := p.recover(p.judge.Now().UnixNano()); err != nil {
		return nil, err
	}
	return p, nil
}

// Use puts other rules in the place of those there were.
func (p *Pipeline) Use(all []config.SeriesRule, keep []config.Keep) {
	p.rules.Store(&rules{rules: all, keep: keep, derivers: derivers(all), stored: p.stored})
	p.newRules.Store(true)
}

// ErrStopped is passed to Done for a delivery that came too late.
var ErrStopped = errors.New("the gateway is stopping")

// Submit screens the delivery and queues it for the next commit; it waits when the
// queue is full. What it cannot take is told to Done.
func (p *Pipeline) Submit(d *Delivery) {
	if err := p.screen(d); err != nil {
		d.done(err)
		return
	}
	if !p.inbox.put(d, p.stopped) {
		d.done(ErrStopped)
	}
}

func (d *Delivery) done(err error) {
	if d.Done != nil {
		d.Done(err)
	}
}

// GiveUp makes those who wait for room in the queue, or for the clock, give up: the
// gateway stops, and nobody may keep it from that.
func (p *Pipeline) GiveUp() { p.giveUp.Do(func() { close(p.stopped) }) }

// Accepted and Rejected count readings on disk and rejects on disk since the start.
func (p *Pipeline) Accepted() uint64 { return p.accepted.Load() }

// Rejected counts rejects on disk since the start.
func (p *Pipeline) Rejected() uint64 { return p.rejected.Load() }

// Filling is how many series get other tiers, and still have those they had.
func (p *Pipeline) Filling() int { return int(p.filling.Load()) }

// Trouble returns the store's error while it cannot be written, or "".
func (p *Pipeline) Trouble() string {
	if t := p.trouble.Load(); t != nil {
		return *t
	}
	return ""
}

// Between runs f in the committing goroutine, between two commits.
func (p *Pipeline) Between(ctx context.Context, f func() error) error {
	result := make(chan error, 1)
	select {
	case p.errands <- func() { result <- f() }:
		return <-result
	case <-p.stopped:
		return ErrStopped
	case <-ctx.Done():
		return ctx.Err()
	}
}
