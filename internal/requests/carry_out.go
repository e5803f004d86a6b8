package requests

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"time"

	"nexocumula/internal/core/request"
	"nexocumula/internal/event"
	"nexocumula/internal/replica"
	"nexocumula/internal/store/records"
)

// Doer carries out requests of a kind. It is called again and again until it is done, and may begin anew after a
// restart if the kind says that it may be carried out more than once.
type Doer func(ctx context.Context, r records.Request) (Outcome, error)

// Outcome is how far a request has come.
type Outcome struct {
	Done     bool
	Progress float64 // 0 to 1
	Detail   string
	Answer   any // for JSON; may be nil
}

// RefusedError says that a request cannot be carried out as it is. After any other error it is tried again.
type RefusedError struct{ Reason string }

func (r *RefusedError) Error() string { return r.Reason }

const (
	lookEvery  = time.Second
	stepWithin = time.Minute
)

// Run carries out what is for this service, and ends what nobody answered in its time, until ctx ends.
func (l *Ledger) Run(ctx context.Context) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	begun := map[string]bool{}
	for first := true; ; first = false {
		open, changed, err := l.all()
		for _, r := range open {
			if err != nil || ctx.Err() != nil {
				break
			}
			err = l.look(ctx, r, first, begun)
		}
		if err != nil && ctx.Err() == nil {
			event.RequestsFailed.To(l.log, "error", err)
		}
		if len(open) == 0 && err == nil {
			clear(begun)
			select {
			case <-changed:
			case <-ctx.Done():
				return nil
			}
			continue
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil
		}
	}
}

// look brings a request on. At the first look nothing was begun by this process: what an earlier one began and may be
// carried out only once is over.
func (l *Ledger) look(ctx context.Context, r records.Request, first bool, begun map[string]bool) error {
	kind, _ := request.Of(r.Kind)
	switch {
	case first && r.To == "" && !kind.Again && !begun[r.UID]:
		return l.end(r, request.Refused, "this gateway was started again meanwhile; it may have been carried out")
	case !l.now().Before(r.Expires):
		return l.end(r, request.Expired, "nobody answered before "+r.Expires.UTC().Format(time.RFC3339))
	case r.To != "":
		return nil
	}
	do := l.doers[r.Kind]
	if do == nil {
		return l.end(r, request.Refused, "this service carries out no requests of kind "+r.Kind)
	}
	if begun[r.UID] && !kind.Again {
		return l.end(r, request.Refused, "it failed half way; it may have been carried out")
	}
	begun[r.UID] = true
	step, cancel := context.WithTimeout(ctx, stepWithin)
	defer cancel()
	out, err := do(step, r)
	if refused, ok := errors.AsType[*RefusedError](err); ok {
		return l.end(r, request.Refused, records.Clip(refused.Reason))
	}
	if err != nil && (kind.Again || ctx.Err() != nil) {
		return err
	}
	if err != nil {
		return l.end(r, request.Refused, records.Clip(err.Error()))
	}
	return l.keep(r, out)
}

// keep notes what came of a step.
func (l *Ledger) keep(r records.Request, out Outcome) error {
	var answer []byte
	if out.Answer != nil {
		var err error
		if answer, err = json.Marshal(out.Answer); err != nil {
			return err
		}
		if len(answer) > replica.LongestAnswer {
			return l.end(r, request.Refused, "its answer is too long; ask for less at once")
		}
	}
	if !out.Done && math.Abs(out.Progress-r.Progress) < 0.01 && out.Detail == r.Detail {
		return nil
	}
	ended := false
	err := l.kept.Change(r.UID, func(kept *records.Request) bool {
		if kept.State.Final() {
			return false
		}
		kept.Version++
		if kept.Progress, kept.Detail, kept.Answer = out.Progress, records.Clip(out.Detail), answer; out.Done {
			kept.State, kept.Progress, ended = request.Done, 1, true
		}
		r = *kept
		return true
	})
	l.wake()
	if err == nil && ended {
		l.noteEnd(r)
	}
	return err
}
