package requests

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"sync"
	"time"

	"nexocumula/internal/core/request"
	"nexocumula/internal/event"
	"nexocumula/internal/replica"
	"nexocumula/internal/store/records"
)

// Doer carries out requests of a kind. It is called repeatedly until it is done, and may begin anew after a
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
	stepWithin = 15 * time.Minute
	mostSteps  = 8 // at the same time
)

// steps are the requests that are being carried out.
type steps struct {
	mu    sync.Mutex
	begun map[string]bool // by this process
	now   map[string]bool
	done  sync.WaitGroup
}

// Run carries out what is for this service, and ends what nobody answered in its time, until ctx ends.
func (l *Ledger) Run(ctx context.Context) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	all := &steps{begun: map[string]bool{}, now: map[string]bool{}}
	defer all.done.Wait()
	for first := true; ; first = false {
		open, changed, err := l.all()
		for _, r := range open {
			if err != nil || ctx.Err() != nil {
				break
			}
			err = l.look(ctx, r, first, all)
		}
		if err != nil && ctx.Err() == nil {
			event.RequestsFailed.To(l.log, "error", err)
		}
		if len(open) == 0 && err == nil {
			all.forget()
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
func (l *Ledger) look(ctx context.Context, r records.Request, first bool, all *steps) error {
	kind, _ := request.Of(r.Kind)
	switch {
	case first && r.To == "" && !kind.Again:
		return l.end(r, request.Refused, "this gateway was started again meanwhile; it may have been carried out")
	case all.runs(r.UID):
		return nil
	case !l.now().Before(r.Expires):
		return l.end(r, request.Expired, "nobody answered before "+r.Expires.UTC().Format(time.RFC3339))
	case r.To != "":
		return nil
	}
	do := l.doers[r.Kind]
	if do == nil {
		return l.end(r, request.Refused, "this service carries out no requests of kind "+r.Kind)
	}
	switch begun, ok := all.begin(r.UID); {
	case !ok:
		return nil // too much at once; it waits
	case begun && !kind.Again:
		all.end(r.UID)
		return l.end(r, request.Refused, "it failed half way; it may have been carried out")
	}
	go func() {
		defer all.end(r.UID)
		if err := l.step(ctx, r, kind, do); err != nil && ctx.Err() == nil {
			event.RequestsFailed.To(l.log, "error", err)
		}
	}()
	return nil
}

// step carries out a step of a request.
func (l *Ledger) step(ctx context.Context, r records.Request, kind request.Kind, do Doer) error {
	within, cancel := context.WithTimeout(ctx, stepWithin)
	defer cancel()
	out, err := do(within, r)
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

func (s *steps) runs(uid string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.now[uid]
}

// begin notes that a step begins, unless too many run, and reports whether the request was begun before.
func (s *steps) begin(uid string) (before, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.now) >= mostSteps {
		return false, false
	}
	before = s.begun[uid]
	s.begun[uid], s.now[uid] = true, true
	s.done.Add(1)
	return before, true
}

func (s *steps) end(uid string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.now, uid)
	s.done.Done()
}

// forget forgets what was begun, as nothing is open any more.
func (s *steps) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.begun)
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
