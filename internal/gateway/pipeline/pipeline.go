package pipeline

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
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

func (d *Delivery) done(err error) {
	if d.Done != nil {
		d.Done(err)
	}
}

// Pipeline is a gateway's way from sources to disk, in stages that own their state: the intake
// calibrates and screens, in the goroutines of the sources; the committer writes, the roller makes
// summaries and the filler other tiers, all three in the goroutine of Run. That must be running for
// Submit to make progress.
type Pipeline struct {
	*intake
	committer *committer
	roller    *roller
	filler    *filler
	sealer    *sealer

	errands chan func()
	giveUp  sync.Once
}

// New makes a pipeline into st. Readings of a series are screened by the first rule
// that matches it; those older than what is kept would spoil the summaries of readings
// that are gone, and do not count.
func New(st *store.Store, settings config.Gateway, log *slog.Logger) (*Pipeline, error) {
	stopped, judge := make(chan struct{}), st.Judge()
	out := &writer{log: log}
	in, err := newIntake(st, out, stopped, log)
	if err != nil {
		return nil, err
	}
	in.Use(settings.Rules, settings.Keep)
	open := &fills{}
	r := &roller{store: st, writer: out, judge: judge, log: log, pending: rollup.NewPending(), fills: open}
	if err := r.recover(context.Background(), judge.Now().UnixNano()); err != nil {
		return nil, err
	}
	s := &sealer{store: st, roller: r, intake: in, judge: judge, log: log}
	s.ctx, s.stop = context.WithCancel(context.Background())
	m, err := newMatters(st.Links, judge, newestReading(st))
	if err != nil {
		return nil, err
	}
	m.from, m.failing = in.From, out.failing
	gaps, err := newGapKeeper(st, st.Gaps, m, in.Regularly, log)
	if err != nil {
		return nil, err
	}
	c := newCommitter(st, out, r, s, gaps, settings.Pace, log)
	r.busy = func() bool { return c.inbox.waiting() > 0 }
	return &Pipeline{
		intake: in, committer: c, roller: r, sealer: s,
		filler: &filler{
			store:   st,
			writer:  out,
			roller:  r,
			sealer:  s,
			uplinks: st.Outboxes,
			fills:   open,
			judge:   judge,
			log:     log,
		},
		errands: make(chan func()),
	}, nil
}

const (
	rollEvery = 250 * time.Millisecond
	sealEvery = time.Hour
)

// Run commits until ctx ends; then it commits what is queued and returns.
func (p *Pipeline) Run(ctx context.Context) error {
	roll := time.NewTicker(rollEvery)
	defer roll.Stop()
	due := time.NewTimer(time.Hour)
	defer due.Stop()
	c, lastSeal := p.committer, p.judge.Now()
	for {
		if wait, committed := c.commitDue(ctx); committed {
			continue
		} else if wait > 0 {
			due.Reset(wait)
		}
		select {
		case <-c.inbox.wake:
			c.inbox.settle()
			c.inbox.take(c.waiting.add)
		case <-due.C:
			c.inbox.take(c.waiting.add)
		case errand := <-p.errands:
			errand()
		case <-roll.C:
			p.takeOver(ctx)
			p.roller.roll(ctx)
			p.filler.fillSome(ctx)
			c.gaps.lookForSilence()
			if p.sealer.due() || p.judge.Now().Sub(lastSeal) >= sealEvery {
				p.sealer.seal()
				lastSeal = p.judge.Now()
			}
		case <-ctx.Done():
			return p.finish()
		}
	}
}

// takeOver makes series what new rules say they are, also those that have no reading for long.
func (p *Pipeline) takeOver(ctx context.Context) {
	if !p.newRules.Swap(false) {
		return
	}
	r := p.rules.Load()
	if err := p.redefine(ctx, r); err != nil {
		event.RulesFailed.To(p.log, "error", err)
		p.newRules.Store(true)
		return
	}
	p.committer.forget()
	p.filler.planFills(r)
}

// finish writes what is queued when the gateway stops, and turns the rest away. It seals only when that is
// short: the journal has all readings, and the next start goes on from there.
func (p *Pipeline) finish() error {
	p.GiveUp()
	ctx, cancel := context.WithTimeout(context.Background(), stopWithin)
	defer cancel()
	p.committer.finish(ctx)
	p.sealer.stop()
	p.sealer.sealing.Lock() // once a seal that still runs has ended
	if !p.sealer.store.SealIsShort() {
		p.sealer.sealing.Unlock()
		return nil
	}
	ctx, cancel = context.WithTimeout(context.Background(), sealWithin)
	defer cancel()
	<-p.sealer.sealNow(ctx)
	return nil
}

// stopWithin is how long a gateway that stops tries to write what it has taken in.
const stopWithin = 5 * time.Second

// sealWithin is how long it seals then, at most.
const sealWithin = time.Second

// ErrStopped is passed to Done for a delivery that came too late.
var ErrStopped = errors.New("the gateway is stopping")

// Submit screens the delivery and queues it for the next commit; it waits when the
// queue is full. What it cannot take is told to Done.
func (p *Pipeline) Submit(d *Delivery) {
	if err := p.screen(d); err != nil {
		d.done(err)
		return
	}
	if !p.committer.inbox.put(d, p.judge.Now, p.stopped) {
		d.done(ErrStopped)
	}
}

// GiveUp makes those who wait for room in the queue, or for the clock, give up: the
// gateway stops, and nobody may keep it from that.
func (p *Pipeline) GiveUp() { p.giveUp.Do(func() { close(p.stopped) }) }

// Accepted counts readings on disk since the start.
func (p *Pipeline) Accepted() uint64 { return p.committer.accepted.Load() }

// Rejected counts rejects on disk since the start.
func (p *Pipeline) Rejected() uint64 { return p.committer.rejected.Load() }

// Waiting returns how many deliveries wait for their commit.
func (p *Pipeline) Waiting() int { return p.committer.inbox.waiting() }

// Filling returns how many series get other tiers, and still have those they had.
func (p *Pipeline) Filling() int { return int(p.filler.filling.Load()) }

// Trouble returns the store's error while it cannot be written, or "".
func (p *Pipeline) Trouble() string {
	text, _ := p.writer.failing()
	return text
}

// ExplainAbsence takes what says when units behind a source did not answer, so that the gaps of their series have a
// cause.
func (p *Pipeline) ExplainAbsence(of func(source, place string, from, to int64) []gap.Episode) {
	m := p.committer.gaps.matters
	m.mu.Lock()
	defer m.mu.Unlock()
	m.absent = of
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

// Renamed takes over that series are called otherwise now. Only between two commits, see Between.
func (p *Pipeline) Renamed() {
	r := p.rules.Load()
	p.Use(r.rules, r.keep)
}

// SealNow seals the store, and waits for it. Only between two commits, see Between.
func (p *Pipeline) SealNow(ctx context.Context) error {
	p.sealer.sealing.Lock() // once a seal that runs has ended
	<-p.sealer.sealNow(ctx)
	return ctx.Err()
}

// Remake makes the windows of a series at both ends of a time again. Only between two commits, see Between.
func (p *Pipeline) Remake(id uint32, from, to int64) {
	if known, ok := p.roller.store.Get(id); ok {
		now := p.judge.Now().UnixNano()
		p.roller.pending.Touch(id, &known.Definition, []int64{from - 1, to}, now)
	}
}

// RemakeTier makes the summaries of a tier within a time again, and returns once they are on disk.
func (p *Pipeline) RemakeTier(ctx context.Context, id uint32, tier series.Tier, from, to int64) error {
	var windows []rollup.Window
	for start := tier.Start(from); start < to; start += int64(tier) {
		windows = append(windows, rollup.Window{Series: id, Tier: tier, Start: start})
	}
	err := p.Between(ctx, func() error {
		p.roller.pending.Restore(windows, p.judge.Now().UnixNano())
		return nil
	})
	if err != nil {
		return err
	}
	return p.RollNow(ctx)
}

// Alive returns nil when the committing goroutine answers before ctx ends, or tries again and again to write to a
// store that cannot be written.
func (p *Pipeline) Alive(ctx context.Context) error {
	err := p.Between(ctx, func() error { return nil })
	if err == nil || errors.Is(err, ErrStopped) || p.writer.tries() {
		return nil
	}
	return fmt.Errorf("the pipeline does not answer: %w", err)
}

// UseCommitDelay takes another delay from now on.
func (p *Pipeline) UseCommitDelay(ctx context.Context, pace config.CommitDelay) error {
	return p.Between(ctx, func() error {
		p.committer.waiting.pace = pace
		return nil
	})
}

// RollNow summarises every window that is over without waiting for late readings. Imports of
// complete history use it.
func (p *Pipeline) RollNow(ctx context.Context) error {
	return p.Between(ctx, func() error {
		for {
			if n, err := p.roller.rollSome(ctx, true); n == 0 || err != nil {
				return err
			}
		}
	})
}

// Idle reports that no window waits for its summary. Only between two commits, see
// Between.
func (p *Pipeline) Idle() bool { return p.roller.pending.Len() == 0 }
