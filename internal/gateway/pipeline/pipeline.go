package pipeline

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"

	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/wire"
)

// Delivery is what one message or poll brought: readings, rejects or both.
type Delivery struct {
	Readings []reading.Reading // calibrated, not yet screened
	Rejects  []reading.Reject

	// Done, if set, is called once: with nil when everything is on disk, with an
	// error when it is not and will not be. It must not block.
	Done func(error)

	screened []screened
}

type screened struct {
	series *known
	time   int64
	value  float64
}

// known is a series as the pipeline sees it.
type known struct {
	id   uint32
	def  series.Definition
	rule config.Rule

	// rows collects this series' readings of the batch being built; the committing
	// goroutine owns it.
	rows column.Block
}

// Pipeline is a gateway's way from sources to disk. Run must be running for Submit to
// make progress.
type Pipeline struct {
	store *store.Store
	rules []config.Rule
	keep  []config.Keep
	outs  []Outbox
	log   *slog.Logger

	queue   chan *Delivery
	errands chan func()
	gate    sync.RWMutex // held for reading around a send to queue
	closed  bool         // nothing more goes into queue; guarded by gate
	stopped chan struct{}
	known   sync.Map // series.Path → *known

	pending *rollup.Pending // owned by Run
	sealing sync.Mutex      // held while a seal runs

	accepted, rejected atomic.Uint64
	trouble            atomic.Pointer[string] // what the store says while it cannot be written
}

// Outbox turns summaries into parcels for one uplink.
type Outbox interface {
	// Parcels packs runs; the sequence numbers it gives them are used up only when
	// Stored is called.
	Parcels(runs []wire.Run) ([]store.Parcel, error)
	// Stored says that the parcels are on disk.
	Stored(parcels []store.Parcel)
}

const (
	queueLength   = 8192 // deliveries waiting for a commit; more make their senders wait
	mostPerCommit = 8192
)

// New makes a pipeline into st. Readings of a series are screened by the first rule
// that matches it; those older than what is kept would spoil the summaries of readings
// that are gone, and do not count.
func New(st *store.Store, rules []config.Rule, keep []config.Keep, outs []Outbox, log *slog.Logger) (*Pipeline, error) {
	p := &Pipeline{
		store: st, rules: rules, keep: keep, outs: outs, log: log,
		queue: make(chan *Delivery, queueLength), errands: make(chan func()), stopped: make(chan struct{}),
		pending: rollup.NewPending(rollup.Tiers),
	}
	if err := p.recover(time.Now().UnixNano()); err != nil {
		return nil, err
	}
	return p, nil
}

// ErrStopped is what Done gets for a delivery that came too late.
var ErrStopped = errors.New("the gateway is stopping")

// Submit screens the delivery and queues it for the next commit; it waits when the
// queue is full. What it cannot take is told to Done.
func (p *Pipeline) Submit(d *Delivery) {
	if err := p.screen(d, time.Now().UnixNano()); err != nil {
		d.done(err)
		return
	}
	if !p.enqueue(d) {
		d.done(ErrStopped)
	}
}

// enqueue is false once the pipeline stops: after that nobody would look.
func (p *Pipeline) enqueue(d *Delivery) bool {
	p.gate.RLock()
	defer p.gate.RUnlock()
	if p.closed {
		return false
	}
	select {
	case p.queue <- d:
		return true
	case <-p.stopped:
		return false
	}
}

func (d *Delivery) done(err error) {
	if d.Done != nil {
		d.Done(err)
	}
}

func (p *Pipeline) screen(d *Delivery, now int64) error {
	d.screened = make([]screened, 0, len(d.Readings))
	for _, r := range d.Readings {
		k, err := p.lookup(r.Path)
		var changed *store.KindChanged
		if errors.Is(err, errTooMany) || errors.As(err, &changed) {
			d.Rejects = append(d.Rejects, r.From.Reject(now, err.Error()))
			continue
		}
		if err != nil {
			return err
		}
		if reason := k.rule.Limits.Refuse(r.Value, r.Time, now); reason != "" {
			d.Rejects = append(d.Rejects, r.From.Reject(now, fmt.Sprintf("%s: %s", r.Path, reason)))
			continue
		}
		d.screened = append(d.screened, screened{k, r.Time, r.Value})
	}
	return nil
}

// maxSeries bounds what senders of ever new topics can make a gateway keep.
const maxSeries = 1_000_000

var errTooMany = fmt.Errorf("it would be a new series, and this gateway keeps %d already; is a level of its topic not a name but a value?", maxSeries)

// lookup finds or defines the series of a path. While the store cannot be written it
// waits, as commits do.
func (p *Pipeline) lookup(path series.Path) (*known, error) {
	if k, ok := p.known.Load(path); ok {
		return k.(*known), nil
	}
	if p.store.Count() >= maxSeries {
		return nil, errTooMany
	}
	rule := p.ruleFor(path)
	if kept := config.KeptFor(p.keep, path, rollup.Readings); kept > 0 {
		rule.Limits.MaxBehind = kept - time.Hour // those just before it may be needed as well
	}
	def := series.Definition{Path: path, Kind: rule.Kind, Unit: rule.Unit, FreshFor: rule.FreshFor, Wrap: rule.Wrap, Labels: rule.Labels, Sketch: rule.Sketch}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		select {
		case <-p.stopped:
			cancel()
		case <-ctx.Done():
		}
	}()
	ids, err := untilWritten(ctx, p, func() ([]uint32, error) {
		ids, err := p.store.Define([]series.Definition{def})
		var changed *store.KindChanged
		if errors.As(err, &changed) {
			return ids, backoff.Permanent(err)
		}
		return ids, err
	})
	if err != nil {
		return nil, err
	}
	k, _ := p.known.LoadOrStore(path, &known{id: ids[0], def: def, rule: rule, rows: column.New(1, 0)})
	return k.(*known), nil
}

func (p *Pipeline) ruleFor(path series.Path) config.Rule {
	for _, r := range p.rules {
		if r.Select.Match(path) {
			return r
		}
	}
	return config.Rule{Kind: series.Gauge, FreshFor: series.DefaultFreshFor}
}

// Accepted and Rejected count readings on disk and rejects on disk since the start.
func (p *Pipeline) Accepted() uint64 { return p.accepted.Load() }

// Rejected counts rejects on disk since the start.
func (p *Pipeline) Rejected() uint64 { return p.rejected.Load() }

// Trouble is what the store says while it cannot be written; empty when all is well.
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
