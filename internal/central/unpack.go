package central

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/core/series"
	"nexocumula/internal/replica"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/wire"
)

// parcel holds the content of a batch that is to be stored, and the refusals of the rest.
type parcel struct {
	engine.Batch
	rows           int // summaries
	readings       int // that were asked for
	refused        []wire.RefusedRun
	refusedRecords []wire.RefusedRecord
	after          []func() // once it is stored
}

// unpack decodes a batch and defines its series. Runs and records that can never be stored are named
// apart, so that they do not hold up the others: those that cannot be read, are of
// another site, or of another kind than their series was recorded with.
func (r *Receiver) unpack(ctx context.Context, l *link, data []byte) (out parcel, err error) {
	r.room <- struct{}{}
	defer func() { <-r.room }()
	in, err := wire.DecodeBatch(data)
	if err != nil {
		return out, r.malformed(l.gateway, err, data)
	}
	for _, b := range in.Bad {
		out.refused = append(out.refused, wire.RefusedRun{Run: b.Run, Path: clip(b.Path), Reason: b.Err.Error()})
	}
	r.takeRecords(l, in.Records, &out) // first, as series may have got other names
	if err := r.takeRuns(ctx, l, in, &out); err != nil {
		return out, err
	}
	var rejects []reading.Reject
	for _, one := range out.refused {
		rejects = append(rejects, r.reject(l.gateway, one.Reason, nil))
	}
	for _, one := range out.refusedRecords {
		rejects = append(rejects, r.reject(l.gateway, one.Reason, nil))
	}
	out.Also = append(out.Also, r.rejects.Add(rejects))
	return out, nil
}

// takeRuns takes the rows of series.
func (r *Receiver) takeRuns(ctx context.Context, l *link, in wire.Decoded, out *parcel) error {
	var defs []series.Definition
	var good []int
	latest := r.store.Judge().Now().Add(furthest).UnixNano()
	refuse := func(i int, why string) {
		out.refused = append(out.refused, wire.RefusedRun{
			Run:    in.At[i],
			Path:   string(in.Runs[i].Def.Path),
			Reason: why,
		})
	}
	for i := range in.Runs {
		in.Runs[i].Def.Path = r.store.Called(in.Runs[i].Def.Path)
		run := in.Runs[i]
		if why := r.beyond(l, run, latest); why != "" {
			refuse(i, why)
			continue
		}
		if !l.of(string(run.Def.Path)) {
			refuse(i, "series "+string(run.Def.Path)+" is not of a site that "+l.gateway+" may send")
			continue
		}
		defs, good = append(defs, run.Def), append(good, i)
	}
	ids, good, changed, err := r.define(ctx, defs, good)
	if err != nil {
		return err
	}
	for _, i := range changed.runs {
		refuse(i, changed.reason[in.Runs[i].Def.Path])
	}
	for k, i := range good {
		if in.Runs[i].Tier == series.Readings && len(in.Runs[i].Sketches) == 0 {
			if err := replica.TakeRows(ctx, r.store, ids[k], in.Runs[i], &out.Batch); err != nil {
				return err
			}
			out.readings += in.Runs[i].Len()
			continue
		}
		out.rows += in.Runs[i].Len()
		if err := r.store.Revise(ctx, in.Runs[i].Def.Path, in.Runs[i].Tier, in.Runs[i].Rows); err != nil {
			return err
		}
		if err := replica.TakeRows(ctx, r.store, ids[k], in.Runs[i], &out.Batch); err != nil {
			return err
		}
	}
	return nil
}

// takeRecords takes records of kinds that are known here.
func (r *Receiver) takeRecords(l *link, in wire.Records, out *parcel) {
	now := r.store.Judge().Now()
	for name, all := range in {
		k := slices.IndexFunc(r.kinds, func(kind replica.RecordKind) bool { return kind.Name == name })
		for i, text := range all {
			refuse := func(why string) {
				out.refusedRecords = append(out.refusedRecords,
					wire.RefusedRecord{Kind: clip(name), Place: i, Reason: why})
			}
			if k < 0 {
				refuse(fmt.Sprintf("records of kind %q are not known here; bring the central up to date", clip(name)))
				continue
			}
			switch one, err := r.kinds[k].Read(text, now); {
			case err != nil:
				refuse(fmt.Sprintf("batch, record %d of %s: %v", i, name, err))
			case !l.of(one.About + "/"):
				refuse(fmt.Sprintf("a record of %s is about %s, which is of no site that %s may send", name, one.About,
					l.gateway))
			case one.Now != nil:
				if err := one.Now(); err != nil {
					refuse(fmt.Sprintf("batch, record %d of %s: %v", i, name, err))
				}
			default:
				out.Also = append(out.Also, one.Take)
				if one.After != nil {
					out.after = append(out.after, one.After)
				}
			}
		}
	}
}

// furthest is how far ahead of the clock here summaries may be; a clock that is further ahead is wrong.
const furthest = 366 * 24 * time.Hour

// beyond says why a run goes beyond what is taken in from one gateway; "" when it does not.
func (r *Receiver) beyond(l *link, run wire.Run, latest int64) string {
	if n := run.Rows.Len(); n > 0 && run.Rows.Times[n-1] > latest {
		return fmt.Sprintf("a summary of %s is of %s, more than a year ahead of the clock here; is the gateway's clock right?",
			run.Def.Path, time.Unix(0, run.Rows.Times[n-1]).UTC().Format(time.RFC3339))
	}
	if _, known := r.store.Find(run.Def.Path); known || !l.of(string(run.Def.Path)) {
		return ""
	}
	if n := r.store.Count(); n >= r.most.MaxSeries {
		return fmt.Sprintf("series %s would be new, and this central keeps %d already, as many as max_series allows; is a level of its topic not a name but a value?",
			run.Def.Path, n)
	}
	if l.series == 0 {
		for _, site := range l.now {
			l.series += r.store.CountOf(site)
		}
	}
	if l.series >= r.most.MaxSeriesOfGateway {
		return fmt.Sprintf("series %s would be new, and this central keeps %d of this gateway already, as many as max_series_of_gateway allows; is a level of its topic not a name but a value?",
			run.Def.Path, l.series)
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
