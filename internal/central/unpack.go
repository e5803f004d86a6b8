package central

import (
	"errors"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store"
	"nexocumula/internal/wire"
)

// unpack decodes a batch and defines its series. Runs that can never be stored are named
// apart, so that they do not hold up the others: those that cannot be read, are of
// another site, or of another kind than their series was recorded with.
func (r *Receiver) unpack(l *link, data []byte) (out store.Batch, rows int, refused []wire.RefusedRun, err error) {
	r.room <- struct{}{}
	defer func() { <-r.room }()
	runs, at, bad, err := wire.DecodeBatch(data)
	if err != nil {
		return out, 0, nil, r.malformed(l.gateway, err, data)
	}
	for _, b := range bad {
		refused = append(refused, wire.RefusedRun{Run: b.Run, Path: clip(b.Path), Reason: b.Err.Error()})
	}
	var defs []series.Definition
	var good []int
	for i, run := range runs {
		if !l.of(string(run.Def.Path)) {
			refused = append(refused, wire.RefusedRun{Run: at[i], Path: string(run.Def.Path), Reason: "series " + string(run.Def.Path) + " is not of a site that " + l.gateway + " may send"})
			continue
		}
		defs, good = append(defs, run.Def), append(good, i)
	}
	ids, good, changed, err := r.define(defs, good)
	if err != nil {
		return out, 0, nil, err
	}
	for _, i := range changed.runs {
		refused = append(refused, wire.RefusedRun{Run: at[i], Path: string(runs[i].Def.Path), Reason: changed.reason[runs[i].Def.Path]})
	}
	for k, i := range good {
		run := runs[i]
		rows += run.Len()
		fuller, err := r.store.Fuller(ids[k], run.Tier, run.Rows)
		if err != nil {
			return out, 0, nil, err
		}
		if fuller.Len() > 0 {
			out.Entries = append(out.Entries, store.Entry{Series: ids[k], Tier: run.Tier, Rows: fuller})
		}
		for _, one := range run.Sketches {
			out.Sketches = append(out.Sketches, store.Sketch{Series: ids[k], Start: one.Start, Data: one.Data})
		}
	}
	for _, one := range refused {
		out.Rejects = append(out.Rejects, r.reject(l.gateway, one.Reason, nil))
	}
	return out, rows, refused, nil
}

// ofOtherKind is the runs of series that were recorded with another kind.
type ofOtherKind struct {
	runs   []int
	reason map[series.Path]string
}

// define makes the series known, but for those of another kind than they were.
func (r *Receiver) define(defs []series.Definition, runs []int) (ids []uint32, good []int, bad ofOtherKind, err error) {
	bad.reason = map[series.Path]string{}
	for {
		ids, err = r.store.Define(defs)
		changed, ok := errors.AsType[*store.KindChanged](err)
		if !ok {
			return ids, runs, bad, err
		}
		bad.reason[changed.Path] = changed.Error()
		var stay []series.Definition
		var stayRuns []int
		for i, d := range defs {
			if d.Path == changed.Path && d.Kind == changed.Is {
				bad.runs = append(bad.runs, runs[i])
			} else {
				stay, stayRuns = append(stay, d), append(stayRuns, runs[i])
			}
		}
		defs, runs = stay, stayRuns
	}
}

func clip(text string) string { return text[:min(len(text), 300)] }
