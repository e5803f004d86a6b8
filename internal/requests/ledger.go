package requests

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"nexocumula/internal/core/request"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/records"
	"nexocumula/internal/wire"
)

// Ledger keeps the requests of one service.
type Ledger struct {
	kept   records.Requests
	now    func() time.Time
	site   string                                      // whose requests are carried out here; "": nobody's
	route  func(site string) (gateway string, ok bool) // who sends what is of a site
	audit  Audit
	expect Expect
	ended  func(records.Request) error // settles what a gateway brought; may come more than once
	doers  map[string]Doer
	log    *slog.Logger

	mu      sync.Mutex
	changed chan struct{} // closed, and another, when something changes
	known   bool          // open is as the file has it
	open    []records.Request
}

// Expect says which readings a request is to bring, live those that are still to be made, and until when they are kept.
type Expect func(request string, paths []series.Path, from, to int64, live bool, until time.Time) error

// Audit notes who did what with a request. Outcome is one of the access package's.
type Audit func(who, action, target, outcome, reason string)

// New makes a ledger; Run carries out what is for this service. A service that is no gateway has no site, and one that
// is no central no route.
func New(kept records.Requests, now func() time.Time, site string, route func(string) (string, bool), doers map[string]Doer,
	audit Audit, expect Expect, ended func(records.Request) error, log *slog.Logger) *Ledger {
	return &Ledger{
		kept: kept, now: now, site: site, route: route, audit: audit, expect: expect, ended: ended, doers: doers, log: log, changed: make(chan struct{}),
	}
}

// Target names a request for people.
func Target(r records.Request) string {
	return fmt.Sprintf("%s of %s, request %s", r.Kind, r.Site, r.UID)
}

// wake makes whoever waits look again.
func (l *Ledger) wake() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.known = false
	close(l.changed)
	l.changed = make(chan struct{})
}

// all returns the requests that are not over, and what is closed when that may have changed.
func (l *Ledger) all() ([]records.Request, <-chan struct{}, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.known {
		open, err := l.kept.Open()
		if err != nil {
			return nil, l.changed, err
		}
		l.open, l.known = open, true
	}
	return slices.Clone(l.open), l.changed, nil
}

// UnroutedError says that no gateway that is known here sends what is of a site.
type UnroutedError struct{ Site string }

func (u *UnroutedError) Error() string {
	return fmt.Sprintf("no gateway that sends to this service has site %s; nexocumula gateway list shows which there are", u.Site)
}

// Ask keeps a request that is made here.
func (l *Ledger) Ask(r records.Request) (records.Request, error) {
	ok := false
	if l.route != nil {
		r.To, ok = l.route(r.Site)
	}
	if !ok {
		return r, &UnroutedError{r.Site}
	}
	r.State, r.Made = request.Waiting, l.now()
	kept, _, err := l.kept.Add(r)
	l.wake()
	return kept, err
}

// Fetch asks a gateway for readings, live for those that are still to be made. They are kept until a time once they are here.
func (l *Ledger) Fetch(r records.Request, what request.ReadingsBody, until time.Time) (records.Request, error) {
	if l.route == nil {
		return r, &UnroutedError{r.Site}
	}
	if _, ok := l.route(r.Site); !ok {
		return r, &UnroutedError{r.Site}
	}
	if r.UID == "" {
		r.UID = rand.Text()
	}
	var err error
	if r.Body, err = json.Marshal(what); err != nil {
		return r, err
	}
	if err := l.expect(r.UID, what.Series, what.From.UnixNano(), what.To.UnixNano(), what.Live, until); err != nil {
		return r, err
	}
	return l.Ask(r)
}

// Withdraw takes a request back that was not handed out.
func (l *Ledger) Withdraw(uid, by string) (withdrawn bool, err error) {
	err = l.kept.Change(uid, func(r *records.Request) bool {
		if withdrawn = r.State == request.Waiting && r.Session == ""; withdrawn {
			r.State, r.Detail = request.Refused, "withdrawn by "+by
		}
		return withdrawn
	})
	l.wake()
	return withdrawn, err
}

// Limits of what is handed out at once.
const (
	mostHanded      = 50
	mostHandedBytes = 256 << 10
)

// Hand returns what a gateway is asked. A request is handed to one process of it only, unless it may be carried out
// more than once: another process does not know whether the first one did.
func (l *Ledger) Hand(gateway, session string) (out []wire.Request, err error) {
	open, _, err := l.all()
	if err != nil {
		return nil, err
	}
	bytes := 0
	for _, r := range open {
		if r.To != gateway || len(out) == mostHanded || bytes > mostHandedBytes || !l.now().Before(r.Expires) {
			continue
		}
		kind, _ := request.Of(r.Kind)
		switch {
		case r.Session == session && r.State == request.Waiting:
		case r.Session == session:
			continue // it said that it has it
		case r.Session != "" && !kind.Again:
			if r.State == request.Waiting {
				if err := l.end(r, request.Refused, "the gateway was started again before it said that it has the request; nobody knows whether it was carried out"); err != nil {
					return nil, err
				}
			}
			continue
		default:
			if err := l.kept.Change(r.UID, func(r *records.Request) bool {
				r.Session, r.State = session, request.Waiting // until this process says that it has it
				return true
			}); err != nil {
				return nil, err
			}
			l.wake()
		}
		bytes += len(r.Body)
		out = append(out, wire.Request{
			ID: r.UID, Site: r.Site, Kind: r.Kind, Author: r.Author, MadeAt: r.Made, ExpiresAt: r.Expires, Version: r.Version, Body: r.Body,
		})
	}
	return out, nil
}

// end ends a request.
func (l *Ledger) end(r records.Request, state request.State, why string) error {
	changed := false
	err := l.kept.Change(r.UID, func(r *records.Request) bool {
		if changed = state.Follows(r.State); changed {
			r.State, r.Detail = state, why
			if r.To == "" {
				r.Version++
			}
		}
		return changed
	})
	if err == nil && changed {
		r.State, r.Detail = state, why
		l.noteEnd(r)
	}
	l.wake()
	return err
}

// noteEnd puts the end of a request into the log and the audit.
func (l *Ledger) noteEnd(r records.Request) {
	if err := l.ended(r); err != nil {
		event.RequestsFailed.To(l.log, "error", err)
	}
	event.RequestEnded.To(l.log, "request", r.UID, "kind", r.Kind, "site", r.Site, "state", string(r.State), "detail", r.Detail)
	outcome := "done"
	if r.State != request.Done {
		outcome = "failed"
	}
	who := r.To
	if who == "" {
		who = r.Author
	}
	l.audit(who, "requests.answer", Target(r), outcome, r.Detail)
}

// Waits returns once something waits to be handed to a gateway's process, and reports whether it does; ctx ends it.
func (l *Ledger) Waits(ctx context.Context, gateway string) bool {
	for {
		open, changed, err := l.all()
		if err == nil && slices.ContainsFunc(open, func(r records.Request) bool {
			return r.To == gateway && r.State == request.Waiting && l.now().Before(r.Expires)
		}) {
			return true
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return false
		}
	}
}

// Answered takes notice of what a gateway said of a request, once that is kept.
func (l *Ledger) Answered(said records.Request) {
	l.wake()
	if !said.State.Final() {
		return
	}
	if kept, ok, err := l.kept.Get(said.UID); err == nil && ok && kept.State == said.State && kept.To != "" {
		l.noteEnd(kept)
	}
}
