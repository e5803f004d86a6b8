package pipeline

import (
	"context"
	"slices"

	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

// handOver gives series the tiers that a fill has made of them. What is pending goes over first: to
// disk as well, so that a gateway that is killed in between makes all of it.
func (fl *filler) handOver(ctx context.Context, done []uint32) error {
	if len(done) == 0 || !fl.sealer.sealing.TryLock() { // a seal would write what was pending when it began
		return nil
	}
	defer fl.sealer.sealing.Unlock()
	fl.handedOver = fl.judge.Now()
	now := fl.judge.Now().UnixNano()
	retired, passedOn := fl.passOn(done, now)
	if passedOn {
		state, err := fl.roller.pending.Save()
		if err != nil {
			return err
		}
		if err := fl.store.PutState(pendingState, state); err != nil {
			return err
		}
	}
	late := fl.roller.pending.Over(func(w rollup.Window) bool {
		f := fl.fills.of[w.Series]
		return f != nil && f.made() && w.Closed(now) && slices.Contains(f.wanted.All(), w.Tier)
	})
	for _, id := range done {
		fl.store.MarkLate(id, engine.LateStretch(late[id]))
	}
	tiers := func(id uint32, def *series.Definition) { def.Tiers = fl.fills.of[id].wanted }
	if _, err := untilWritten(ctx, fl.writer,
		func() (struct{}, error) { return struct{}{}, fl.store.Update(ctx, done, tiers) }); err != nil {
		return err
	}
	for _, w := range retired {
		fl.roller.pending.Drop(w)
	}
	for _, id := range done {
		delete(fl.fills.of, id)
	}
	if len(fl.fills.of) == 0 {
		event.TiersDone.To(fl.log)
	}
	return nil
}

// passOn marks, for windows that are pending of the tiers which series have, those of the tiers they
// get that nothing else would mark, if there are any. retired are windows that are not wanted then.
func (fl *filler) passOn(of []uint32, now int64) (retired []rollup.Window, marked bool) {
	had, have := map[uint32][]series.Tier{}, map[uint32][]series.Tier{}
	for _, id := range of {
		known, _ := fl.store.Get(id)
		had[id], have[id] = known.Tiers.All(), fl.fills.of[id].wanted.All()
	}
	for _, w := range fl.roller.pending.Some(func(w rollup.Window) bool { return !w.Sketch && have[w.Series] != nil }) {
		had, have := had[w.Series], have[w.Series]
		kept := slices.Contains(have, w.Tier)
		to := slices.IndexFunc(have, func(t series.Tier) bool { return t > w.Tier })
		switch {
		case w.Tier == had[0] && w.Tier != have[0]: // its readings are in no other window yet
			fl.roller.pending.Follow([]rollup.Window{w}, have[0], 0, now)
			kept, marked = false, true // it follows those, if it is still wanted
		case !kept && to >= 0:
			fl.roller.pending.Follow([]rollup.Window{w}, have[to], to, now)
			marked = true
		}
		if !kept {
			retired = append(retired, w)
		}
	}
	return retired, marked
}
