package uplink

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/marks"
	"nexocumula/internal/replica"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/wire"
)

const (
	signOfLife   = 5 * time.Second // how often to speak up when there is nothing to send
	refusedFor   = time.Hour       // how long what the central will not take waits
	twinStands   = time.Minute     // how long a twin is reported after it was last seen
	longestPause = 10 * time.Second
)

// Store is what a Sender reads the rows of marks from.
type Store interface {
	replica.Source
	Judge() *clock.Judge
}

// Sender sends what the store's outbox of one uplink holds.
type Sender struct {
	name     string // under which the central knows this service
	settings config.Uplink
	outbox   *outbox.Outbox
	store    Store
	kinds    []replica.RecordKind
	describe func() wire.Status
	log      *slog.Logger
	http     *http.Client

	// Owned by Run.
	session  string
	number   uint64
	peer     peer
	pace     *batchSizer
	refills  refills
	identity identity

	mu    sync.Mutex
	tally Tally
}

// Tally describes the state of an uplink, for display.
type Tally struct {
	Name      string
	Address   string
	Up        bool   // the last attempt was answered
	Failures  uint64 // attempts that failed since the start
	Refills   uint64 // how often everything had to be sent again since the start
	LastError string

	RefusedRecords uint64 // notes and the like that the central refused since the start
	Twin           string // another process under this name; empty without one
	twinAt         time.Time
}

// NewSender makes a sender of what an outbox says that waits, under a name; describe says what to tell
// the central of this service.
//
// What it proves its name with is in credentials, unless the settings have a secret.
func NewSender(name, credentials string, settings config.Uplink, box *outbox.Outbox, store Store, kinds []replica.RecordKind, describe func() wire.Status, log *slog.Logger) (*Sender, error) {
	known, err := parsePeer(box.Peer())
	if err != nil {
		return nil, fmt.Errorf("what is known of the central of uplink %s cannot be read: %w", settings.Name, err)
	}
	session := rand.Text()
	known.begin(session)
	if err := box.SetPeer(known.text()); err != nil {
		return nil, err
	}
	return &Sender{
		name: name, settings: settings, outbox: box, store: store, kinds: kinds, peer: known, describe: describe, log: log.With("uplink", settings.Name),
		http: settings.HTTP(), session: session, pace: newPace(), identity: identity{file: credentials, site: name},
		tally: Tally{Name: settings.Name, Address: settings.Address},
	}, nil
}

// Tally returns the present state of the uplink.
func (s *Sender) Tally() Tally {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.tally
	if time.Since(out.twinAt) > twinStands {
		out.Twin = ""
	}
	return out
}

// Outbox returns the outbox that the sender empties.
func (s *Sender) Outbox() *outbox.Outbox { return s.outbox }

// Run sends until ctx ends. What cannot be sent stays marked; attempts are repeated after
// growing, randomly varied pauses.
func (s *Sender) Run(ctx context.Context) error {
	pause := &backoff.ExponentialBackOff{InitialInterval: 200 * time.Millisecond, Multiplier: 1.7, RandomizationFactor: 0.4, MaxInterval: longestPause}
	pause.Reset()
	defer s.outbox.PutBack()
	for ctx.Err() == nil {
		sent, err := s.sendOnce(ctx)
		s.note(err)
		if err == nil {
			err = s.outbox.Save()
			s.renew(ctx)
		}
		wait := signOfLife
		if err != nil {
			wait = pause.NextBackOff()
		} else {
			pause.Reset()
			if sent > 0 && s.outbox.Backlog().Rows > 0 {
				continue
			}
		}
		s.rest(ctx, wait, err == nil)
	}
	return nil
}

// rest waits; a new mark ends it early when the central is there to take it.
func (s *Sender) rest(ctx context.Context, wait time.Duration, up bool) {
	wake := s.outbox.Wake()
	if !up {
		wake = nil
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-wake:
	case <-timer.C:
	case <-ctx.Done():
	}
}

func (s *Sender) note(err error) {
	if errors.Is(err, context.Canceled) {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.tally.Up != (err == nil) {
		s.log.Info("uplink changed", "up", err == nil, "error", err)
	}
	s.tally.Up = err == nil
	if err != nil {
		s.tally.Failures++
		s.tally.LastError = err.Error()
	}
}

// sendOnce sends one batch, or a sign of life, and is the number of summaries that were
// acknowledged.
func (s *Sender) sendOnce(ctx context.Context) (int, error) {
	l, err := s.gather(ctx, s.pace.rows())
	if err != nil {
		s.outbox.PutBack()
		return 0, err
	}
	reply, err := s.deliver(ctx, l)
	if err != nil {
		s.refused(l, err)
		s.outbox.PutBack()
		return 0, err
	}
	return l.rows, s.settle(l, reply)
}

// deliver posts a load and waits for the answer.
func (s *Sender) deliver(ctx context.Context, l load) (wire.Reply, error) {
	s.number++
	e := wire.Envelope{Gateway: s.name, Session: s.session, Number: s.number, Acked: s.peer.Position, Status: s.status()}
	if !l.empty() {
		var err error
		if e.Batch, err = wire.EncodeBatch(l.runs, s.settings.Tiers, l.records); err != nil {
			return wire.Reply{}, &refusedError{Refusal: wire.Refusal{Code: wire.CodeMalformed, Message: err.Error()}}
		}
	}
	body, err := e.Encode()
	if err != nil {
		return wire.Reply{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, s.pace.within(len(body)))
	defer cancel()
	begun := time.Now()
	reply, err := s.post(ctx, body)
	if err != nil {
		if _, answered := errors.AsType[*refusedError](err); !answered {
			s.pace.lost()
		}
		return reply, err
	}
	s.pace.sent(len(e.Batch), l.rows, time.Since(begun))
	return reply, nil
}

// settle lets go of what the central has. That it lost something comes first: once the
// acknowledgement is noted, nothing would say so any more.
func (s *Sender) settle(l load, reply wire.Reply) error {
	s.mu.Lock()
	if s.tally.Twin = reply.Twin; reply.Twin != "" {
		s.tally.twinAt = time.Now()
	}
	s.mu.Unlock()
	for _, run := range reply.Refused {
		if run.Run < 0 || run.Run >= len(l.of) {
			continue
		}
		s.log.Error("the central refuses a series; the others go on", "series", run.Path, "reason", run.Reason)
		s.outbox.Refuse(l.of[run.Run], run.Reason, refusedFor)
	}
	for _, one := range reply.RefusedRecords {
		s.log.Error("the central refuses a record; it stays here, and is sent again with everything", "kind", one.Kind, "record", one.Place, "reason", one.Reason)
		s.mu.Lock()
		s.tally.RefusedRecords++
		s.mu.Unlock()
	}
	foreign := slices.ContainsFunc(reply.Since, func(one string) bool { return !s.peer.knows(one) })
	switch refill := reply.Lost || foreign; {
	case refill && !s.refills.due(time.Now()):
		// Nothing is let go of, so that the next answer says it again.
		s.outbox.PutBack()
		return &tooOften{s.refills.next}
	case refill:
		s.log.Warn("the central may not have all that it had acknowledged; sending everything again", "lost", reply.Lost, "restored_here", foreign)
		s.peer.Position = reply.Position
		if err := s.outbox.MarkEverything(s.peer.text()); err != nil {
			s.outbox.PutBack()
			return err
		}
		s.refills.began(time.Now())
		s.mu.Lock()
		s.tally.Refills++
		s.mu.Unlock()
	}
	if !l.empty() {
		s.peer.Position = reply.Position
		s.outbox.Acknowledge(s.peer.text())
		return nil
	}
	s.outbox.Settle()
	return nil
}

// refused isolates what makes the central refuse a whole batch: the next one is a quarter
// as large, down to a single series, which is then set aside.
func (s *Sender) refused(l load, err error) {
	no, ok := errors.AsType[*refusedError](err)
	if !ok || no.Code != wire.CodeMalformed {
		return
	}
	if alone := oneOf(l.of); alone && l.rows > 0 {
		s.log.Error("the central cannot read a series; the others go on", "series", l.runs[0].Def.Path, "reason", no.Message)
		s.outbox.Refuse(l.of[0], no.Message, refusedFor)
		return
	}
	s.pace.bytes = max(s.pace.bytes/4, s.pace.perRow)
}

func oneOf(of []marks.Of) bool {
	for _, one := range of {
		if one != of[0] {
			return false
		}
	}
	return true
}

func (s *Sender) status() wire.Status {
	status := s.describe()
	backlog := s.outbox.Backlog()
	status.BacklogRows, status.BacklogSince, status.BacklogRecords = backlog.Rows, backlog.Oldest, backlog.Records
	return status
}

// refusedError is a central's typed no.
type refusedError struct {
	wire.Refusal
	status int
}

func (r *refusedError) Error() string {
	if r.status == 0 {
		return r.Message
	}
	return fmt.Sprintf("the central refused (HTTP %d, %s): %s", r.status, r.Code, r.Message)
}
