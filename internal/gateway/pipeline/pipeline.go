package pipeline

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"

	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/unit"
	"nexocumula/internal/store"
)

// Delivery is what one message or poll brought: readings, rejects or both.
type Delivery struct {
	Readings []reading.Reading // calibrated, not yet screened
	Rejects  []reading.Reject
	Sender   any  // whoever waits for Done, comparable; nil when nobody does
	Polled   bool // we asked for it: nobody waits

	// Done, if set, is called once: with nil when everything is on disk, with an
	// error when it is not and will not be. It must not block.
	Done func(error)

	came     time.Time // into the inbox
	screened []screened
}

type screened struct {
	series *member
	time   int64
	value  float64
}

// member is a series as the pipeline sees it. One with a refusal takes no readings.
type member struct {
	id      uint32
	def     series.Definition
	rule    config.Rule
	refusal string
	// rows collects this series' readings of the batch being built; the committing
	// goroutine owns it.
	rows column.Block
}

// Pipeline is a gateway's way from sources to disk. Run must be running for Submit to
// make progress.
type Pipeline struct {
	store   *store.Store
	judge   *clock.Judge
	rules   atomic.Pointer[rules]
	tiers   []rollup.Tier
	log     *slog.Logger
	arrival arrival

	inbox    inbox
	errands  chan func()
	stopped  chan struct{}
	giveUp   sync.Once
	waiting  waiting         // owned by Run
	pending  *rollup.Pending // owned by Run
	sealing  sync.Mutex      // held while a seal runs
	defining sync.Mutex      // one new series at a time, so that their number stays bounded

	mostSeries int // maxSeries, but in tests

	accepted, rejected atomic.Uint64
	trouble            atomic.Pointer[string] // what the store says while it cannot be written
}

// rules say what series are like. The series known by them go with them, so that new
// rules count from the next reading on while the pipeline and its open windows stay.
type rules struct {
	rules   []config.Rule
	keep    []config.Keep
	members sync.Map // series.Path → *member
}

// New makes a pipeline into st. Readings of a series are screened by the first rule
// that matches it; those older than what is kept would spoil the summaries of readings
// that are gone, and do not count.
func New(st *store.Store, settings config.Gateway, log *slog.Logger) (*Pipeline, error) {
	p := &Pipeline{
		store: st, judge: st.Judge(), tiers: settings.Tiers, log: log,
		inbox: newInbox(), errands: make(chan func()), stopped: make(chan struct{}),
		waiting: waiting{pace: settings.Pace}, pending: rollup.NewPending(settings.Tiers), mostSeries: maxSeries,
	}
	p.Use(settings.Rules, settings.Keep)
	if err := p.recover(p.judge.Now().UnixNano()); err != nil {
		return nil, err
	}
	return p, nil
}

// Use puts other rules in the place of those there were.
func (p *Pipeline) Use(all []config.Rule, keep []config.Keep) {
	p.rules.Store(&rules{rules: all, keep: keep})
}

// ErrStopped is what Done gets for a delivery that came too late.
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

func (p *Pipeline) screen(d *Delivery) error {
	d.screened = make([]screened, 0, len(d.Readings))
	r := p.rules.Load()
	for _, one := range d.Readings {
		m, err := p.member(r, one.Path)
		if err != nil {
			return err
		}
		now := p.judge.Now().UnixNano()
		if m.refusal != "" {
			d.Rejects = append(d.Rejects, one.From.Reject(now, m.refusal))
			continue
		}
		if m.rule.Limits.RefuseTime(one.Time, now) != "" {
			// Only with a clock that can be believed is anything refused for its time.
			if err := p.untilSure(); err != nil {
				return err
			}
			now = p.judge.Now().UnixNano()
		}
		reason := m.intoState(&one)
		if reason == "" {
			reason = m.intoUnit(&one)
		}
		if reason != "" {
			d.Rejects = append(d.Rejects, one.From.Reject(now, fmt.Sprintf("%s: %s", one.Path, reason)))
			continue
		}
		if reason := m.rule.Limits.Refuse(one.Value, one.Time, now); reason != "" {
			d.Rejects = append(d.Rejects, one.From.Reject(now, fmt.Sprintf("%s: %s", one.Path, reason)))
			continue
		}
		d.screened = append(d.screened, screened{m, one.Time, one.Value})
	}
	return nil
}

// intoState gives a reading that is a text the value of the state that is called so.
func (m *member) intoState(one *reading.Reading) (refusal string) {
	if one.Text == "" {
		return ""
	}
	value, ok := m.def.States.Value(one.Text)
	switch {
	case ok:
		one.Value = value
		return ""
	case m.def.States == "":
		return fmt.Sprintf("%q is no number; where it names a state, say so in the series' rule: kind: state and states: with the value of each name", one.Text)
	}
	return fmt.Sprintf("%q is none of the series' states, which are %s", one.Text, strings.Join(m.def.States.Names(), ", "))
}

// intoUnit converts a reading whose sender says its unit into that of the series.
func (m *member) intoUnit(one *reading.Reading) (refusal string) {
	if one.Unit == "" || one.Unit == m.def.Unit || m.def.Unit == "" {
		return ""
	}
	c, err := unit.Convert(one.Unit, m.def.Unit)
	if err != nil {
		return fmt.Sprintf("the sender says its unit is %s, the series' is %s: %v", one.Unit, m.def.Unit, err)
	}
	one.Value = one.Value*c.Scale + c.Offset
	return ""
}

// maxSeries bounds what senders of ever new topics can make a gateway keep.
const maxSeries = 1_000_000

var errTooMany = fmt.Errorf("it would be a new series, and this gateway keeps %d already; is a level of its topic not a name but a value?", maxSeries)

// member finds or defines the series of a path. While the store cannot be written it
// waits, as commits do.
func (p *Pipeline) member(r *rules, path series.Path) (*member, error) {
	if m, ok := r.members.Load(path); ok {
		return m.(*member), nil
	}
	p.defining.Lock()
	defer p.defining.Unlock()
	if m, ok := r.members.Load(path); ok {
		return m.(*member), nil
	}
	m := r.newMember(path)
	if _, known := p.store.Find(path); !known && p.store.Count() >= p.mostSeries {
		m.refusal = errTooMany.Error()
		return m, nil // not remembered: those come without end
	}
	id, err := p.define(m.def)
	if changed, ok := errors.AsType[*store.KindChanged](err); ok {
		m.refusal = changed.Error()
	} else if err != nil {
		return nil, err
	}
	m.id = id
	r.members.Store(path, m)
	return m, nil
}

func (p *Pipeline) define(def series.Definition) (uint32, error) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		select {
		case <-p.stopped:
			cancel()
		case <-ctx.Done():
		}
	}()
	return untilWritten(ctx, p, func() (uint32, error) {
		ids, err := p.store.Define([]series.Definition{def})
		if _, ok := errors.AsType[*store.KindChanged](err); ok {
			return 0, backoff.Permanent(err)
		}
		if err != nil {
			return 0, err
		}
		return ids[0], nil
	})
}

func newRows() column.Block { return column.New(1, 0) }

func (r *rules) newMember(path series.Path) *member {
	rule := config.RuleFor(r.rules, path)
	if kept := config.KeptFor(r.keep, path, rollup.Readings); kept > 0 {
		rule.Limits.MaxAge = kept - fullHour // those just before it may be needed as well
	}
	def := series.Definition{Path: path, Kind: rule.Kind, Unit: rule.Unit, FreshFor: rule.FreshFor, Wrap: rule.Wrap, Labels: rule.Labels, States: rule.States, Sketch: rule.Sketch}
	return &member{def: def, rule: rule, rows: newRows()}
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
