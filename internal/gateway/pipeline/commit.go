package pipeline

import (
	"context"
	"time"

	"github.com/cenkalti/backoff/v5"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
)

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
	lastSeal := time.Now()
	for {
		if now := time.Now(); len(p.waiting.all) > 0 {
			if !p.waiting.due().After(now) {
				p.inbox.take(p.waiting.add) // those that came meanwhile may be worth another moment
			}
			if !p.waiting.due().After(now) {
				p.commit(ctx, p.waiting.take(now))
				continue
			}
			due.Reset(p.waiting.look(now).Sub(now))
		}
		select {
		case <-p.inbox.wake:
			p.inbox.settle()
			p.inbox.take(p.waiting.add)
		case <-due.C:
			p.inbox.take(p.waiting.add)
		case errand := <-p.errands:
			errand()
		case <-roll.C:
			p.takeOver(ctx)
			p.roll(ctx)
			p.fillSome(ctx)
			if p.store.SealDue() || time.Since(lastSeal) >= sealEvery {
				p.seal()
				lastSeal = time.Now()
			}
		case <-ctx.Done():
			return p.finish()
		}
	}
}

// commit writes the deliveries in one transaction, then tells their senders.
func (p *Pipeline) commit(ctx context.Context, all []*Delivery) {
	p.refuseBetween(ctx, all)
	touched, rejects, rows := collect(all)
	batch := engine.Batch{Also: []sqlite.Change{p.store.Rejects.Add(rejects)}}
	newest := make([]int64, len(touched))
	for i, k := range touched {
		k.rows = k.rows.Normalize()
		batch.Entries = append(batch.Entries, engine.Entry{Series: k.id, Tier: rollup.Readings, Rows: k.rows})
		before, _ := p.store.Get(k.id)
		newest[i] = before.LastTime
	}
	err := p.write(ctx, batch)
	if err == nil {
		p.mark(ctx, touched, newest)
		p.accepted.Add(uint64(rows))
		p.rejected.Add(uint64(len(rejects)))
	}
	for _, k := range touched {
		k.reset()
	}
	for _, d := range all {
		if err == nil && len(d.Ended) > 0 {
			p.store.End(d.Ended, d.EndedAt)
		}
		d.done(err)
	}
}

// collect sorts the deliveries' readings into the rows of their series.
func collect(all []*Delivery) (touched []*member, rejects []reading.Reject, rows int) {
	for _, d := range all {
		for _, s := range d.screened {
			if s.series.rows.Len() == 0 {
				touched = append(touched, s.series)
			}
			s.series.rows.Add(s.time, s.value)
		}
		rows += len(d.screened)
		if !d.Again {
			rejects = append(rejects, d.Rejects...)
		}
	}
	return touched, rejects, rows
}

// reset empties the rows and keeps a little of their memory for the next batch; the store
// has its own copy.
func (m *member) reset() {
	if n := m.rows.Len(); n > 0 && m.newest != 0 {
		m.newest = max(m.newest, m.rows.Times[n-1])
	}
	if cap(m.rows.Times) > 256 {
		m.rows = newRows()
		return
	}
	m.rows.Times = m.rows.Times[:0]
	m.rows.Cols[0] = m.rows.Cols[0][:0]
}

// write writes the batch, however long that takes.
func (p *Pipeline) write(ctx context.Context, batch engine.Batch) error {
	_, err := untilWritten(ctx, p, func() (struct{}, error) { return struct{}{}, p.store.Append(ctx, batch) })
	return err
}

// untilWritten writes, and while that fails (a full disk) tries again, so that senders
// wait instead of losing what they sent. Only ctx ends it.
func untilWritten[T any](ctx context.Context, p *Pipeline, write func() (T, error)) (T, error) {
	v, err := backoff.Retry(ctx, write,
		backoff.WithMaxElapsedTime(0),
		backoff.WithBackOff(&backoff.ExponentialBackOff{InitialInterval: 100 * time.Millisecond, Multiplier: 2, RandomizationFactor: 0.3, MaxInterval: 5 * time.Second}),
		backoff.WithNotify(func(err error, wait time.Duration) {
			text := err.Error()
			p.trouble.Store(&text)
			p.log.Error("the store cannot be written; trying again", "error", err, "in", wait)
		}))
	if err == nil {
		p.trouble.Store(nil)
	}
	return v, err
}

// finish writes what is queued when the gateway stops, and turns the rest away.
func (p *Pipeline) finish() error {
	p.GiveUp()
	p.inbox.close()
	ctx, cancel := context.WithTimeout(context.Background(), stopWithin)
	defer cancel()
	p.inbox.take(p.waiting.add)
	if len(p.waiting.all) > 0 {
		p.commit(ctx, p.waiting.take(time.Now()))
	}
	p.roll(ctx)
	p.sealing.Lock() // one that still runs
	done := p.sealNow(ctx)
	<-done
	return nil
}

// stopWithin is how long a gateway that stops tries to write what it has taken in.
const stopWithin = 5 * time.Second
