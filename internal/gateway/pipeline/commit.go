package pipeline

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/store/sqlite"
)

// committer writes the deliveries of many senders in few transactions, and tells them.
type committer struct {
	store   committerStore
	rejects *records.Rejects
	writer  *writer
	roller  *roller
	sealer  *sealer
	gaps    *gapKeeper
	judge   *clock.Judge
	log     *slog.Logger

	inbox   inbox
	waiting waiting
	rows    []*memberRows // by the id of the series

	accepted, rejected atomic.Uint64
}

// committerStore is what the committer asks of the store.
type committerStore interface {
	appender
	Get(id uint32) (engine.Series, bool)
	Held() (why string)
	End(paths []series.Path, at int64)
}

// memberRows is what the committer knows of a series.
type memberRows struct {
	rows    column.Block // of the batch that is being built
	newest  int64        // time of its newest reading; 0 while it is not known
	id      uint32
	thinned bool // readings of it were thinned, as of when newest became known
}

func newCommitter(st *store.Store, out *writer, r *roller, s *sealer, gaps *gapKeeper, pace config.CommitDelay, log *slog.Logger) *committer {
	return &committer{
		store: st, rejects: st.Rejects, writer: out, roller: r, sealer: s, gaps: gaps, judge: st.Judge(), log: log,
		inbox: newInbox(), waiting: waiting{pace: pace},
	}
}

// commitDue commits what waits when its time has come; else it returns how long that still is, 0 when
// nothing waits.
func (c *committer) commitDue(ctx context.Context) (wait time.Duration, committed bool) {
	now := c.judge.Now()
	if len(c.waiting.all) == 0 {
		return 0, false
	}
	if why := c.store.Held(); why != "" {
		c.writer.hold(why) // senders wait, and what is here is summarised, sealed and sent meanwhile
		return lookAgain, false
	}
	c.writer.release()
	if !c.waiting.due().After(now) {
		c.inbox.take(c.waiting.add) // those that came meanwhile may be worth another moment
	}
	if !c.waiting.due().After(now) {
		c.commit(ctx, c.waiting.take(now))
		return 0, true
	}
	return c.waiting.look(now).Sub(now), false
}

// commit writes the deliveries in one transaction, then tells their senders.
func (c *committer) commit(ctx context.Context, all []*Delivery) {
	c.refuseBetween(ctx, all)
	touched, rejects, rows := c.collect(all)
	batch := engine.Batch{Also: []sqlite.Change{c.rejects.Add(rejects)}, Incoming: true}
	newest := make([]int64, len(touched))
	var disturbing []disturbed
	c.gaps.matters.refused(rejects)
	for i, k := range touched {
		k.rows = k.rows.Normalize()
		batch.Entries = append(batch.Entries, engine.Entry{Series: k.id, Tier: series.Readings, Rows: k.rows})
		before, _ := c.store.Get(k.id)
		newest[i] = before.LastTime
		if d, yes := c.gaps.disturbs(before, k.rows.Times); yes {
			disturbing = append(disturbing, d)
		}
	}
	written := func() {}
	if len(disturbing) > 0 {
		var change sqlite.Change
		change, written = c.gaps.change(disturbing)
		batch.Also = append(batch.Also, change)
	}
	err := c.writer.write(ctx, c.store, batch)
	if err == nil {
		written()
		for i, k := range touched {
			c.roller.mark(ctx, k.id, k.rows, newest[i])
		}
		c.accepted.Add(uint64(rows))
		c.rejected.Add(uint64(len(rejects)))
	}
	for _, k := range touched {
		k.reset()
	}
	for _, d := range all {
		if err == nil && len(d.Ended) > 0 {
			c.store.End(d.Ended, d.EndedAt)
		}
		d.done(err)
	}
}

// of returns what is known of a series.
func (c *committer) of(m *member) *memberRows {
	if missing := int(m.id) + 1 - len(c.rows); missing > 0 {
		c.rows = append(c.rows, make([]*memberRows, missing)...)
	}
	if c.rows[m.id] == nil {
		c.rows[m.id] = &memberRows{id: m.id, rows: newRows()}
	}
	return c.rows[m.id]
}

// forget drops what is known of all series: new rules may say something else.
func (c *committer) forget() { clear(c.rows) }

// collect sorts the deliveries' readings into the rows of their series.
func (c *committer) collect(all []*Delivery) (touched []*memberRows, rejects []reading.Reject, rows int) {
	for _, d := range all {
		for _, s := range d.screened {
			k := c.of(s.series)
			if k.rows.Len() == 0 {
				touched = append(touched, k)
			}
			k.rows.Add(s.time, s.value)
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
func (m *memberRows) reset() {
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

func newRows() column.Block { return column.New(1, 0) }

// finish commits what is queued, and takes nothing more in.
func (c *committer) finish(ctx context.Context) {
	c.inbox.close()
	c.inbox.take(c.waiting.add)
	if len(c.waiting.all) > 0 {
		c.commit(ctx, c.waiting.take(c.judge.Now()))
	}
}
