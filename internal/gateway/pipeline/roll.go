package pipeline

import (
	"context"
	"slices"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/store"
	"nexocumula/internal/wire"
)

const (
	hurryAbove   = 100_000 // pending windows at which closed ones are no longer let rest
	mostPerRoll  = 50_000  // windows summarised in one go
	pendingState = "open windows"
)

// roll summarises the windows that are due and puts the summaries into the store and
// the outboxes, in one transaction.
func (p *Pipeline) roll(ctx context.Context) {
	for {
		due := p.pending.Due(time.Now().UnixNano(), p.pending.Len() > hurryAbove, mostPerRoll)
		if len(due) == 0 {
			return
		}
		if err := p.rollWindows(ctx, due); err != nil {
			p.log.Error("summaries could not be made; trying again", "windows", len(due), "error", err)
			p.pending.Restore(due, time.Now().UnixNano())
			return
		}
		if len(due) < mostPerRoll || len(p.queue) > 0 {
			return
		}
	}
}

func (p *Pipeline) rollWindows(ctx context.Context, due []rollup.Window) error {
	runs, batch, err := p.summarise(due)
	if err != nil || len(runs) == 0 {
		return err
	}
	parcels := make([][]store.Parcel, len(p.outs))
	for i, out := range p.outs {
		if parcels[i], err = out.Parcels(runs); err != nil {
			return err
		}
		batch.Outbox = append(batch.Outbox, parcels[i]...)
	}
	if err := p.append(ctx, batch); err != nil {
		return err
	}
	for i, out := range p.outs {
		out.Stored(parcels[i])
	}
	return nil
}

// summarise computes the summaries of windows, which are in order of series, tier
// and time.
func (p *Pipeline) summarise(due []rollup.Window) (runs []wire.Run, batch store.Batch, err error) {
	for len(due) > 0 {
		n := slices.IndexFunc(due, func(w rollup.Window) bool { return w.Series != due[0].Series || w.Tier != due[0].Tier })
		if n < 0 {
			n = len(due)
		}
		known, ok := p.store.Get(due[0].Series)
		if ok && due[0].Tier == rollup.Quarter {
			sketches, err := p.sketch(known, due[:n])
			if err != nil {
				return nil, batch, err
			}
			runs = append(runs, wire.Run{Def: known.Definition, Tier: rollup.Quarter, Sketches: sketches})
			for _, one := range sketches {
				batch.Sketches = append(batch.Sketches, store.Sketch{Series: known.ID, Start: one.Start, Data: one.Data})
			}
		} else if ok {
			rows, err := p.summariseSeries(known, due[:n])
			if err != nil {
				return nil, batch, err
			}
			if rows.Len() > 0 {
				runs = append(runs, wire.Run{Def: known.Definition, Tier: due[0].Tier, Rows: rows})
				batch.Entries = append(batch.Entries, store.Entry{Series: known.ID, Tier: due[0].Tier, Rows: rows})
			}
		}
		due = due[n:]
	}
	return runs, batch, nil
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

// seal moves the store's head into chunks. The windows still open go with it: their
// readings leave the journal, from which a restart would know them.
//
// Sealing takes a while, and commits go on meanwhile; only one seal runs at a time.
func (p *Pipeline) seal() {
	state, err := p.pending.Save()
	if err != nil {
		p.log.Error("the journal could not be sealed", "error", err)
		return
	}
	if !p.sealing.TryLock() {
		return // the last one still runs
	}
	begun := make(chan struct{})
	go func() {
		defer p.sealing.Unlock()
		err := p.store.Seal(begun, store.State{Name: pendingState, Payload: state})
		if err != nil {
			p.log.Error("the journal could not be sealed; it goes on growing until that works", "error", err)
		}
	}()
	<-begun // the state is that of the rows frozen now, not of those that come
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
	p.store.InHead(rollup.Readings, func(id uint32, rows column.Block) {
		if known, ok := p.store.Get(id); ok {
			p.pending.Touch(id, &known.Definition, rows, known.LastTime, now)
		}
	})
	return nil
}

// Idle reports that no window waits for its summary. Only between two commits, see
// Between.
func (p *Pipeline) Idle() bool { return p.pending.Len() == 0 }
