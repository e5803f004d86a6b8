package gateway

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"nexocumula/internal/core/reading"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
)

// Replayed is the outcome of processing a reject again.
type Replayed struct {
	ID       uint64
	Readings int    // that count now
	Reason   string // why it still does not; "": it does
}

// Replay sends rejects through their sources and the rules of today. What passes is stored at
// its own time, and the windows it falls into are made again. To replay twice changes nothing:
// of two readings with the same time there is one.
func (g *Gateway) Replay(ctx context.Context, rejects []reading.Reject) ([]Replayed, error) {
	out := make([]Replayed, len(rejects))
	errs := make([]error, len(rejects))
	var wait sync.WaitGroup
	turns := make(chan struct{}, atOnce)
	for i := range rejects {
		turns <- struct{}{}
		wait.Go(func() {
			defer func() { <-turns }()
			out[i], errs[i] = g.replay(ctx, &rejects[i])
		})
	}
	wait.Wait()
	if i := slices.IndexFunc(errs, func(err error) bool { return err != nil }); i >= 0 {
		return nil, errs[i]
	}
	var passed []uint64
	for _, r := range out {
		if r.Reason == "" {
			passed = append(passed, r.ID)
		}
	}
	return out, g.Pipe.DidReplay(passed)
}

const atOnce = 64 // as many share a commit

func (g *Gateway) replay(ctx context.Context, r *reading.Reject) (out Replayed, err error) {
	out.ID = r.ID
	if r.Replayed != 0 {
		out.Reason = "it counts already, since " + time.Unix(0, r.Replayed).UTC().Format(time.RFC3339)
		return out, nil
	}
	readings, reason := g.reread(r)
	if reason != "" {
		out.Reason = reason
		return out, nil
	}
	done := make(chan error, 1)
	d := &pipeline.Delivery{Readings: readings, Again: true, Done: func(err error) { done <- err }}
	g.Pipe.Submit(d)
	select {
	case err = <-done:
	case <-ctx.Done():
		return out, ctx.Err() // it may be stored all the same; another time changes nothing
	}
	if err != nil {
		return out, err
	}
	if len(d.Rejects) > 0 {
		out.Reason = d.Rejects[0].Reason
	}
	out.Readings = len(readings) - len(d.Rejects)
	return out, nil
}

// reread returns the readings that a reject becomes today. Its source reads the bytes that arrived
// once more, as far as there are all of them; else what was read then counts.
func (g *Gateway) reread(r *reading.Reject) (readings []reading.Reading, reason string) {
	from := &reading.Origin{Source: r.Source, Place: r.Place, Raw: r.Raw}
	before := func() ([]reading.Reading, string) {
		if r.Reading == nil {
			return nil, reason
		}
		one := *r.Reading
		one.From = from
		return []reading.Reading{one}, ""
	}
	of, _ := named[source.Rereader](g, r.Source)
	switch {
	case of == nil:
		reason = fmt.Sprintf("source %q is not there any more, or cannot read again what it could not read", r.Source)
		return before()
	case len(r.Raw) >= reading.MaxRaw:
		reason = fmt.Sprintf("only the first %d bytes of it were kept", reading.MaxRaw)
		return before()
	}
	readings, rejects := of.Reread(r.Place, r.Raw, r.Time)
	if r.Reading == nil {
		if len(rejects) > 0 {
			return nil, rejects[0].Reason
		}
		return readings, ""
	}
	// The others of its message counted when it came.
	readings = slices.DeleteFunc(readings, func(one reading.Reading) bool { return one.Path != r.Reading.Path })
	if len(readings) == 0 {
		return before()
	}
	if i := slices.IndexFunc(readings, func(one reading.Reading) bool { return one.Time == r.Reading.Time }); i >= 0 {
		return readings[i : i+1], ""
	}
	if r.Rule != reading.WrongTime { // without a time of its own it came when it came
		readings[0].Time = r.Reading.Time
	}
	return readings[:1], ""
}
