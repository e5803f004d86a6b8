package pipeline

import (
	"context"
	"log/slog"
	"slices"
	"time"

	"nexocumula/internal/clock"
	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

const (
	hurryAbove   = 500_000 // pending windows at which closed ones are no longer let rest
	mostPerRoll  = 20_000  // windows summarised in one go
	pendingState = "open windows"
)

// roller makes summaries of windows that are over. The committing goroutine owns it.
type roller struct {
	store  rollerStore
	writer *writer
	judge  *clock.Judge
	log    *slog.Logger

	pending *rollup.Pending
	fills   *fills      // which only the filler changes
	busy    func() bool // somebody waits for a commit

	lateAgain time.Time // the next look at what is no longer late, while very much is pending
}

// rollerStore is what the roller asks of the store.
type rollerStore interface {
	appender
	Get(id uint32) (engine.Series, bool)
	Read(ctx context.Context, series uint32, tier series.Tier, from, to int64) (column.Block, error)
	Scan(ctx context.Context, id uint32, w engine.Wanted, sink engine.Sink) error
	Sketches(ctx context.Context, id uint32, from, to int64, most int) ([]engine.Sketch, error)
	State(name string) ([]byte, error)
	Unsealed(tier series.Tier, visit func(series uint32, rows column.Block))
	MarkLate(id uint32, l engine.LateStretch)
	Summarised(left map[uint32]engine.LateStretch)
	LateSeries() map[uint32]int64
}

// roll summarises the windows that are due and puts the summaries into the store, which
// marks them for the uplinks.
func (r *roller) roll(ctx context.Context) {
	for {
		n, err := r.rollSome(ctx, r.pending.Len() > hurryAbove)
		if err != nil {
			event.SummariesFailed.To(r.log, "error", err)
			return
		}
		if n < mostPerRoll || r.busy() {
			return
		}
	}
}

// rollSome summarises windows that are due, and is how many.
func (r *roller) rollSome(ctx context.Context, hurry bool) (int, error) {
	now := r.judge.Now().UnixNano()
	due := r.pending.Due(now, hurry, mostPerRoll)
	if len(due) == 0 {
		return 0, nil
	}
	if len(due) >= mostPerRoll {
		r.markLate(now)
	}
	batch, err := r.summarise(ctx, due, nil)
	if err == nil && len(due) < mostPerRoll { // of very many, those over them follow when all are made
		due, err = r.rollOver(ctx, due, &batch, now)
	}
	if err == nil && len(batch.Entries)+len(batch.Sketches) > 0 {
		err = r.writer.write(ctx, r.store, batch)
	}
	if err != nil {
		r.pending.Restore(due, now)
		return len(due), err
	}
	if len(due) >= mostPerRoll {
		r.follow(ctx, due, now)
	}
	r.noLongerLate(now)
	return len(due), nil
}

// rollOver makes the windows of wider tiers that follow from those made; all holds both.
func (r *roller) rollOver(ctx context.Context, made []rollup.Window, batch *engine.Batch, now int64) (all []rollup.Window, err error) {
	for all = made; len(made) > 0; all = append(all, made...) {
		if made = r.pending.TakeClosed(r.follow(ctx, made, now), now); len(made) == 0 {
			break
		}
		more, err := r.summarise(ctx, made, freshOf(batch.Entries))
		if err != nil {
			return append(all, made...), err
		}
		batch.Entries = append(batch.Entries, more.Entries...)
	}
	return all, nil
}

// summarise computes the summaries of windows, which are in order of series, tier
// and time. fresh are rows that are not in the store yet.
func (r *roller) summarise(ctx context.Context, due []rollup.Window, fresh map[seriesTier]column.Block) (batch engine.Batch, err error) {
	for len(due) > 0 {
		n := alike(due)
		known, ok := r.store.Get(due[0].Series)
		source, made := r.sourceOf(&known, due[0].Tier)
		switch {
		case ok && due[0].Sketch:
			sketches, err := r.sketch(ctx, known, due[:n])
			if err != nil {
				return batch, err
			}
			batch.Sketches = append(batch.Sketches, sketches...)
		case ok && made:
			rows, err := r.summariseSeries(ctx, known, source, due[:n], fresh)
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

// seriesTier names the rows of a series at a tier.
type seriesTier struct {
	series uint32
	tier   series.Tier
}

// freshOf returns the rows of entries by series and tier.
func freshOf(entries []engine.Entry) map[seriesTier]column.Block {
	out := make(map[seriesTier]column.Block, len(entries))
	for _, e := range entries {
		at := seriesTier{e.Series, e.Tier}
		out[at] = column.Merge(out[at], e.Rows)
	}
	return out
}

// alike returns how many of the first windows are of the same series and tier.
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
func (r *roller) summariseSeries(ctx context.Context, s engine.Series, source series.Tier, windows []rollup.Window, fresh map[seriesTier]column.Block) (column.Block, error) {
	out := rollup.NewBlock(s.Kind, len(windows))
	tier := windows[0].Tier
	near := int64(100 * tier) // windows closer than this are read together
	for len(windows) > 0 {
		n := 1
		for n < len(windows) && windows[n].Start-windows[n-1].Start <= near {
			n++
		}
		rows, err := r.store.Read(ctx, s.ID, source, windows[0].Start-int64(s.FreshFor)-int64(source),
			windows[n-1].End())
		if err != nil {
			return out, err
		}
		if more, ok := fresh[seriesTier{s.ID, source}]; ok {
			rows = column.Merge(rows,
				more.Between(windows[0].Start-int64(s.FreshFor)-int64(source), windows[n-1].End()))
		}
		var thinned around
		if source == series.Readings && windows[0].Start < s.ThinnedTo {
			if thinned, err = r.around(ctx, &s, windows[0].Start, windows[n-1].Start); err != nil {
				return out, err
			}
		}
		for _, w := range windows[:n] {
			if rows.Len() == 0 {
				break
			}
			if source == series.Readings && w.Start < s.ThinnedTo && !thinned.complete(w.Start) {
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

// reduce returns the summary of a window, from readings or from those of a narrower tier.
func reduce(rows column.Block, source series.Tier, w rollup.Window, def *series.Definition) rollup.Summary {
	if source == series.Readings {
		return rollup.Fold(rows, w.Start, w.End(), def)
	}
	return rollup.Widen(rows, source, w.Start, w.End(), def)
}

// recover marks what had no summary yet when the gateway last stopped: the windows
// open at the last seal, and those of readings that came after it.
func (r *roller) recover(ctx context.Context, now int64) error {
	state, err := r.store.State(pendingState)
	if err != nil {
		return err
	}
	if err := r.pending.Load(state, now); err != nil {
		return err
	}
	r.store.Unsealed(series.Readings, func(id uint32, rows column.Block) {
		if known, ok := r.store.Get(id); ok {
			r.touch(ctx, id, &known.Definition, rows, known.LastTime, now)
		}
	})
	r.markLate(now)
	return nil
}
