package pipeline

import (
	"cmp"
	"context"
	"slices"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/sqlite"
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
		if n < mostPerRoll || p.inbox.waiting() > 0 {
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
	if len(due) >= mostPerRoll {
		p.markLate(now)
	}
	batch, err := p.summarise(ctx, due, nil)
	if err == nil && len(due) < mostPerRoll { // of very many, those over them follow when all are made
		due, err = p.rollOver(ctx, due, &batch, now)
	}
	if err == nil && len(batch.Entries)+len(batch.Sketches) > 0 {
		err = p.write(ctx, batch)
	}
	if err != nil {
		p.pending.Restore(due, now)
		return len(due), err
	}
	if len(due) >= mostPerRoll {
		p.follow(ctx, due, now)
	}
	p.noLongerLate(now)
	return len(due), nil
}

// rollOver makes the windows of wider tiers that follow from those made; all holds both.
func (p *Pipeline) rollOver(ctx context.Context, made []rollup.Window, batch *engine.Batch, now int64) (all []rollup.Window, err error) {
	for all = made; len(made) > 0; all = append(all, made...) {
		if made = p.pending.TakeClosed(p.follow(ctx, made, now), now); len(made) == 0 {
			break
		}
		more, err := p.summarise(ctx, made, batch.Entries)
		if err != nil {
			return append(all, made...), err
		}
		batch.Entries = append(batch.Entries, more.Entries...)
	}
	return all, nil
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
// and time. fresh are rows that are not in the store yet.
func (p *Pipeline) summarise(ctx context.Context, due []rollup.Window, fresh []engine.Entry) (batch engine.Batch, err error) {
	for len(due) > 0 {
		n := alike(due)
		known, ok := p.store.Get(due[0].Series)
		source, made := p.sourceOf(&known, due[0].Tier)
		switch {
		case ok && due[0].Sketch:
			sketches, err := p.sketch(ctx, known, due[:n])
			if err != nil {
				return batch, err
			}
			batch.Sketches = append(batch.Sketches, sketches...)
		case ok && made:
			rows, err := p.summariseSeries(ctx, known, source, due[:n], fresh)
			if err != nil {
				return batch, err
			}
			if rows.Len() > 0 {
				batch.Entries = append(batch.Entries, engine.Entry{Series: known.ID, Tier: due[0].Tier, Rows: rows})
			}
		}
		due = due[n:]
	}
	return batch, nil
}

// alike is how many of the first windows are of the same series and tier.
func alike(windows []rollup.Window) int {
	n := slices.IndexFunc(windows, func(w rollup.Window) bool {
		return w.Series != windows[0].Series || w.Tier != windows[0].Tier || w.Sketch != windows[0].Sketch
	})
	if n < 0 {
		return len(windows)
	}
	return n
}

// summariseSeries computes windows of one series and tier from the tier before it, reading
// each stretch of neighbouring windows once.
func (p *Pipeline) summariseSeries(ctx context.Context, s engine.Series, source rollup.Tier, windows []rollup.Window, fresh []engine.Entry) (column.Block, error) {
	out := rollup.NewBlock(s.Kind, len(windows))
	tier := windows[0].Tier
	near := int64(100 * tier) // windows closer than this are read together
	for len(windows) > 0 {
		n := 1
		for n < len(windows) && windows[n].Start-windows[n-1].Start <= near {
			n++
		}
		rows, err := p.store.Read(ctx, s.ID, source, windows[0].Start-int64(s.FreshFor)-int64(source), windows[n-1].End())
		if err != nil {
			return out, err
		}
		for _, e := range fresh {
			if e.Series == s.ID && e.Tier == source {
				rows = column.Merge(rows, e.Rows.Between(windows[0].Start-int64(s.FreshFor)-int64(source), windows[n-1].End()))
			}
		}
		var thinned around
		if source == rollup.Readings && windows[0].Start < s.ThinnedTo {
			if thinned, err = p.around(ctx, &s, windows[0].Start, windows[n-1].Start); err != nil {
				return out, err
			}
		}
		for _, w := range windows[:n] {
			if rows.Len() == 0 {
				break
			}
			if source == rollup.Readings && w.Start < s.ThinnedTo && !thinned.complete(w.Start) {
				continue // it was made when all its readings were here
			}
			if sum := reduce(rows, source, w, &s.Definition); sum.Count > 0 {
				sum.AddTo(&out, w.Start, s.Kind)
			}
		}
		windows = windows[n:]
	}
	return out, nil
}

// reduce is the summary of a window, from readings or from those of a narrower tier.
func reduce(rows column.Block, source rollup.Tier, w rollup.Window, def *series.Definition) rollup.Summary {
	if source == rollup.Readings {
		return rollup.Fold(rows, w.Start, w.End(), def)
	}
	return rollup.Widen(rows, source, w.Start, w.End(), def)
}

// seal moves the store's tray into chunks, beside the commits, unless it is being done.
func (p *Pipeline) seal() {
	if p.sealing.TryLock() {
		p.sealNow(context.Background()) // it outlives what called for it
	}
}

// sealNow seals while sealing is held, which ends with it. The windows still open go into
// the store with it: their readings leave the journal, from which a restart would know
// them.
func (p *Pipeline) sealNow(ctx context.Context) (done <-chan struct{}) {
	ended, begun := make(chan struct{}), make(chan struct{})
	state, err := p.pending.Save()
	said, saidErr := p.saveSaid()
	err = cmp.Or(err, saidErr)
	settled := p.settled()
	go func() {
		defer close(ended)
		defer p.sealing.Unlock()
		if err == nil {
			err = p.store.Seal(ctx, engine.Sealing{Begun: begun, Settled: settled, States: []sqlite.State{{Name: pendingState, Payload: state}, said}})
		} else {
			close(begun)
		}
		if ctx.Err() != nil {
			p.log.Info("the journal keeps what could not be sealed before the end; the next start reads it")
		} else if err != nil {
			p.log.Error("the journal could not be sealed; it goes on growing until that works", "error", err)
		}
	}()
	<-begun // the state belongs to the rows that leave now, not to later ones
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
			p.touch(context.Background(), id, &known.Definition, rows, known.LastTime, now)
		}
	})
	p.markLate(now)
	return nil
}

// Idle reports that no window waits for its summary. Only between two commits, see
// Between.
func (p *Pipeline) Idle() bool { return p.pending.Len() == 0 }
