package repair

import (
	"context"
	"encoding/json"
	"math/rand/v2"
	"time"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/event"
	"nexocumula/internal/store/engine"
)

const (
	verifyEvery = 30 * 24 * time.Hour
	verifyLook  = time.Hour
	restFor     = 99 // times as long as was worked: so it takes a hundredth of a processor
	verifyState = "verified"
)

// Pass is a look through the whole store.
type Pass struct {
	Ended  time.Time `json:"ended"`
	Faults int       `json:"faults"`
}

// verifyNowAndThen looks through the whole store once a month, beside everything else.
func (r *Repairer) verifyNowAndThen(ctx context.Context) {
	select {
	case <-time.After(time.Duration(rand.Int64N(int64(verifyLook)))): // not all gateways at once
	case <-ctx.Done():
		return
	}
	for {
		if last, err := r.LastPass(); err == nil && r.store.Judge().Now().Sub(last.Ended) >= verifyEvery {
			if err := r.Verify(ctx, restFor); err != nil && ctx.Err() == nil {
				event.RepairFailed.To(r.log, "error", err)
			}
		}
		select {
		case <-time.After(verifyLook):
		case <-ctx.Done():
			return
		}
	}
}

// LastPass returns when the store was last looked through.
func (r *Repairer) LastPass() (out Pass, err error) {
	text, err := r.store.State(verifyState)
	if err == nil && text != nil {
		err = json.Unmarshal(text, &out)
	}
	return out, err
}

// Verify looks through the whole store, and rests so many times as long as it works. What is damaged is set aside.
func (r *Repairer) Verify(ctx context.Context, rest int) error {
	begun := time.Now()
	var faults []engine.Fault
	err := r.verify(ctx, func(f engine.Fault) {
		faults = append(faults, f)
		event.FaultFound.To(r.log, "place", f.Place, "series", f.Series, "tier", f.Tier.String(), "rows", f.Rows, "error", f.Text)
	}, func(ctx context.Context, _ int) error {
		select {
		case <-time.After(time.Duration(rest) * time.Since(begun)):
			begun = time.Now()
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	})
	if err != nil {
		return err
	}
	for _, f := range faults {
		if err := r.setAside(ctx, f); err != nil {
			return err
		}
	}
	text, err := json.Marshal(Pass{Ended: r.store.Judge().Now().UTC(), Faults: len(faults)})
	if err == nil {
		err = r.store.PutState(verifyState, text)
	}
	return err
}

// setAside reads the rows that a fault is about as a query would, which sets aside what is damaged.
func (r *Repairer) setAside(ctx context.Context, f engine.Fault) error {
	if f.SeriesID == 0 {
		return nil
	}
	return r.store.Scan(ctx, f.SeriesID, engine.Wanted{
		Tier: f.Tier, From: f.From, To: f.To + 1, Need: rollup.NeedAll, Keep: true,
	}, &counter{})
}

// counter counts rows.
type counter struct{ rows int }

// Rows counts some.
func (c *counter) Rows(b column.Block, _ int64) error {
	c.rows += b.Len()
	return nil
}

// Whole is never called because Cut is nil.
func (c *counter) Whole(int64, int64, rollup.Summary) error { return nil }
