package central

import (
	"context"
	"errors"
	"fmt"
	"time"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/wire"
)

// unpack decodes a batch and defines its series. Runs that can never be stored are named
// apart, so that they do not hold up the others: those that cannot be read, are of
// another site, or of another kind than their series was recorded with.
func (r *Receiver) unpack(ctx context.Context, l *link, data []byte) (out engine.Batch, rows int, refused []wire.RefusedRun, err error) {
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
	latest := r.store.Judge().Now().Add(furthest).UnixNano()
	for i, run := range runs {
		if why := r.beyond(l, run, latest); why != "" {
			refused = append(refused, wire.RefusedRun{Run: at[i], Path: string(run.Def.Path), Reason: why})
			continue
		}
		if !l.of(string(run.Def.Path)) {
			refused = append(refused, wire.RefusedRun{Run: at[i], Path: string(run.Def.Path), Reason: "series " + string(run.Def.Path) + " is not of a site that " + l.gateway + " may send"})
			continue
		}
		defs, good = append(defs, run.Def), append(good, i)
	}
	ids, good, changed, err := r.define(ctx, defs, good)
	if err != nil {
		return out, 0, nil, err
	}
	for _, i := range changed.runs {
		refused = append(refused, wire.RefusedRun{Run: at[i], Path: string(runs[i].Def.Path), Reason: changed.reason[runs[i].Def.Path]})
	}
	for k, i := range good {
		run := runs[i]
		rows += run.Len()
		fuller, err := r.store.Fuller(ctx, ids[k], run.Tier, run.Rows)
		if err != nil {
			return out, 0, nil, err
		}
		if fuller.Len() > 0 {
			out.Entries = append(out.Entries, engine.Entry{Series: ids[k], Tier: run.Tier, Rows: fuller})
		}
		for _, one := range run.Sketches {
			out.Sketches = append(out.Sketches, engine.Sketch{Series: ids[k], Start: one.Start, Data: one.Data})
		}
	}
	var rejects []reading.Reject
	for _, one := range refused {
		rejects = append(rejects, r.reject(l.gateway, one.Reason, nil))
	}
	out.Also = append(out.Also, r.rejects.Add(rejects))
	return out, rows, refused, nil
}

// furthest is how far ahead of the clock here summaries may be; a clock that is further ahead is wrong.
const furthest = 366 * 24 * time.Hour

// beyond says why a run goes beyond what is taken in from one gateway; "" when it does not.
func (r *Receiver) beyond(l *link, run wire.Run, latest int64) string {
	if n := run.Rows.Len(); n > 0 && run.Rows.Times[n-1] > latest {
		return fmt.Sprintf("a summary of %s is of %s, more than a year ahead of the clock here; is the gateway's clock right?", run.Def.Path, time.Unix(0, run.Rows.Times[n-1]).UTC().Format(time.RFC3339))
	}
	if _, known := r.store.Find(run.Def.Path); known || !l.of(string(run.Def.Path)) {
		return ""
	}
	if n := r.store.Count(); n >= r.most.MaxSeries {
		return fmt.Sprintf("series %s would be new, and this central keeps %d already, as many as max_series allows; is a level of its topic not a name but a value?", run.Def.Path, n)
	}
	if l.series == 0 {
		for _, site := range l.now {
			l.series += r.store.CountOf(site)
		}
	}
	if l.series >= r.most.MaxSeriesOfGateway {
		return fmt.Sprintf("series %s would be new, and this central keeps %d of this gateway already, as many as max_series_of_gateway allows; is a level of its topic not a name but a value?", run.Def.Path, l.series)
	}
	l.series++
	return ""
}

// ofOtherKind is the runs of series that were recorded with another kind.
type ofOtherKind struct {
	runs   []int
	reason map[series.Path]string
}

// define makes the series known, but for those of another kind than they were.
func (r *Receiver) define(ctx context.Context, defs []series.Definition, runs []int) (ids []uint32, good []int, bad ofOtherKind, err error) {
	bad.reason = map[series.Path]string{}
	for {
		ids, err = r.store.Define(ctx, defs)
		changed, ok := errors.AsType[*engine.KindChanged](err)
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
