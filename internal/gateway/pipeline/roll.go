package pipeline

import (
	"context"
	"errors"
	"slices"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
)

const (
	hurryAbove   = 100_000 // pending windows at which closed ones are no longer let rest
	mostPerRoll  = 20_000  // windows summarised in one go
	pendingState = "open windows"
)

// roll summarises the windows that are due and puts the summaries into the store, which
// marks them for the uplinks.
func (p *Pipeline) roll(ctx context.Context) {
	for {
		n, err := p.rollSome(ctx, p.pending.Len() > hurryAbove)
		if err != nil {
			p.log.Error("summaries could not be made; trying again", "error", err)
			return
		}
		if n < mostPerRoll || p.inbox.len() > 0 {
			return
		}
	}
}

// rollSome summarises windows that are due, and is how many.
func (p *Pipeline) rollSome(ctx context.Context, hurry bool) (int, error) {
	now := p.judge.Now().UnixNano()
	due := p.pending.Due(now, hurry, mostPerRoll)
	if len(due) == 0 {
		return 0, nil
	}
	batch, err := p.summarise(due)
	if err == nil && len(batch.Entries)+len(batch.Sketches) > 0 {
		err = p.append(ctx, batch)
	}
	if err != nil {
		p.pending.Restore(due, now)
	}
	return len(due), err
}

// RollNow summarises every window that is over, without waiting for late readings: for
// whoever brings history in and knows that it is complete.
func (p *Pipeline) RollNow(ctx context.Context) error {
	return p.Between(ctx, func() error {
		for {
			if n, err := p.rollSome(ctx, true); n == 0 || err != nil {
				return err
			}
		}
	})
}

// summarise computes the summaries of windows, which are in order of series, tier
// and time.
func (p *Pipeline) summarise(due []rollup.Window) (batch store.Batch, err error) {
	for len(due) > 0 {
		n := slices.IndexFunc(due, func(w rollup.Window) bool {
			return w.Series != due[0].Series || w.Tier != due[0].Tier || w.Sketch != due[0].Sketch
		})
		if n < 0 {
			n = len(due)
		}
		known, ok := p.store.Get(due[0].Series)
		switch {
		case ok && due[0].Sketch:
			sketches, err := p.sketch(known, due[:n])
			if err != nil {
				return batch, err
			}
			batch.Sketches = append(batch.Sketches, sketches...)
		case ok:
			rows, err := p.summariseSeries(known, due[:n])
			if err != nil {
				return batch, err
			}
			if rows.Len() > 0 {
				batch.Entries = append(batch.Entries, store.Entry{Series: known.ID, Tier: due[0].Tier, Rows: rows})
			}
		}
		due = due[n:]
	}
	return batch, nil
}

// summariseSeries computes windows of one series and tier, reading each stretch of
// neighbouring windows once.
func (p *Pipeline) summariseSeries(s store.Series, windows []rollup.Window) (column.Block, error) {
	out := rollup.NewBlock(s.Kind, len(windows))
	tier := windows[0].Tier
	near := int64(100 * tier) // windows closer than this are read together
	for len(windows) > 0 {
		n := 1
		for n < len(windows) && windows[n].Start-windows[n-1].Start <= near {
			n++
		}
		rows, err := p.store.Read(s.ID, rollup.Readings, windows[0].Start-int64(s.FreshFor), windows[n-1].Start+int64(tier))
		if err != nil {
			return out, err
		}
		for _, w := range windows[:n] {
			if sum := rollup.Fold(rows, w.Start, w.Start+int64(tier), &s.Definition); sum.Count > 0 {
				sum.AddTo(&out, w.Start, s.Kind)
			}
		}
		windows = windows[n:]
	}
	return out, nil
}

// mark notes the windows that committed readings touch.
func (p *Pipeline) mark(touched []*member, newest []int64) {
	now := p.judge.Now().UnixNano()
	for i, m := range touched {
		p.touch(m.id, &m.def, m.rows, newest[i], now)
	}
}

// touch marks the windows of rows. A row older than the newest before may have changed
// for how long the reading before it speaks, and so the window of the reading after it.
func (p *Pipeline) touch(id uint32, def *series.Definition, rows column.Block, newest, now int64) {
	p.pending.Touch(id, def, rows.Times, now)
	late := rows.Times[:rows.Search(newest)]
	for len(late) > 0 {
		n := 1
		for n < len(late) && late[n]-late[n-1] <= int64(def.FreshFor) {
			n++
		}
		next := &successors{of: late[:n], within: int64(def.FreshFor), found: func(t int64) { p.pending.Touch(id, def, []int64{t}, now) }}
		want := store.Wanted{Tier: rollup.Readings, From: late[0] + 1, To: late[n-1] + int64(def.FreshFor) + 1}
		if err := p.store.Scan(context.Background(), id, want, next); err != nil && !errors.Is(err, errAllFound) {
			p.log.Error("after a late reading the next window's coverage may be wrong", "series", def.Path, "error", err)
		}
		late = late[n:]
	}
}

var errAllFound = errors.New("all are found")

// successors is a sink that finds the reading after each of some times.
type successors struct {
	of     []int64 // ascending
	within int64
	found  func(t int64)
}

func (s *successors) Rows(b column.Block, _ int64) error {
	for _, t := range b.Times {
		for len(s.of) > 0 && s.of[0] < t {
			if t-s.of[0] <= s.within {
				s.found(t)
			}
			s.of = s.of[1:]
		}
		if len(s.of) == 0 {
			return errAllFound
		}
	}
	return nil
}

// Whole never comes, as nothing lets it.
func (s *successors) Whole(int64, int64, rollup.Summary) error { return nil }

// seal moves the store's tray into chunks, beside the commits, unless it is being done.
func (p *Pipeline) seal() {
	if p.sealing.TryLock() {
		p.sealNow()
	}
}

// sealNow seals while sealing is held, which ends with it. The windows still open go into
// the store with it: their readings leave the journal, from which a restart would know
// them.
func (p *Pipeline) sealNow() (done <-chan struct{}) {
	ended, begun := make(chan struct{}), make(chan struct{})
	state, err := p.pending.Save()
	go func() {
		defer close(ended)
		defer p.sealing.Unlock()
		if err == nil {
			err = p.store.Seal(begun, store.State{Name: pendingState, Payload: state})
		} else {
			close(begun)
		}
		if err != nil {
			p.log.Error("the journal could not be sealed; it goes on growing until that works", "error", err)
		}
	}()
	<-begun // the state is that of the rows that go now, not of those that come
	return ended
}

// recover marks what had no summary yet when the gateway last stopped: the windows
// open at the last seal, and those of readings that came after it.
func (p *Pipeline) recover(now int64) error {
	state, err := p.store.State(pendingState)
	if err != nil {
		return err
	}
	if err := p.pending.Load(state, now); err != nil {
		return err
	}
	p.store.Unsealed(rollup.Readings, func(id uint32, rows column.Block) {
		if known, ok := p.store.Get(id); ok {
			p.touch(id, &known.Definition, rows, known.LastTime, now)
		}
	})
	return nil
}

// Idle reports that no window waits for its summary. Only between two commits, see
// Between.
func (p *Pipeline) Idle() bool { return p.pending.Len() == 0 }
