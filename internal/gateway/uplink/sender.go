package uplink

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"nexocumula/internal/config"
	"nexocumula/internal/store"
	"nexocumula/internal/wire"
)

const (
	signOfLife  = 5 * time.Second // how often to speak up when there is nothing to send
	sendWithin  = 60 * time.Second
	mostParcels = wire.MaxAllRows / mostRows
	mostBytes   = 4 << 20
)

// Sender posts the parcels of one outbox to its central.
type Sender struct {
	gateway  string
	settings config.Uplink
	outbox   *Outbox
	store    *store.Store
	between  func(context.Context, func() error) error // runs a function when the outbox is at rest
	describe func() wire.Status
	log      *slog.Logger
	http     *http.Client

	cursor store.Cursor // owned by Run

	mu    sync.Mutex
	tally Tally
}

// Tally is how an uplink stands, for people to look at.
type Tally struct {
	Name      string
	Address   string
	Up        bool      // the last attempt was answered
	Epoch     string    //
	Acked     uint64    // sequence number up to which the central has everything on disk
	AckedRows uint64    // summaries acknowledged in all
	AckedAt   time.Time // zero before the first acknowledgement
	Failures  uint64    // attempts that failed since the start
	Refills   uint64    // how often everything had to be sent again
	LastError string
}

// NewSender makes a sender for the outbox; describe says what to tell the central of
// the gateway.
func NewSender(gateway string, settings config.Uplink, outbox *Outbox, st *store.Store,
	between func(context.Context, func() error) error, describe func() wire.Status, log *slog.Logger) *Sender {
	return &Sender{
		gateway: gateway, settings: settings, outbox: outbox, store: st, between: between, describe: describe,
		log: log.With("uplink", settings.Name), http: &http.Client{Timeout: sendWithin},
		tally: Tally{Name: settings.Name, Address: settings.Address},
	}
}

// Tally is how the uplink stands.
func (s *Sender) Tally() Tally {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.tally
}

// Run sends until ctx ends. What cannot be sent waits in the outbox; attempts are
// repeated after growing, randomly varied pauses.
func (s *Sender) Run(ctx context.Context) error {
	if err := s.loadCursor(); err != nil {
		return err
	}
	pause := &backoff.ExponentialBackOff{InitialInterval: 200 * time.Millisecond, Multiplier: 1.7, RandomizationFactor: 0.4, MaxInterval: 10 * time.Second}
	pause.Reset()
	for ctx.Err() == nil {
		sent, err := s.sendOnce(ctx)
		s.note(err)
		wait := signOfLife
		switch {
		case err != nil:
			wait = pause.NextBackOff()
		case sent > 0:
			pause.Reset()
			continue // there may be more
		default:
			pause.Reset()
		}
		s.rest(ctx, wait, err == nil)
	}
	return nil
}

// rest waits; new parcels end it early when the central is there to take them.
func (s *Sender) rest(ctx context.Context, wait time.Duration, up bool) {
	wake := s.outbox.wake
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

func (s *Sender) loadCursor() error {
	cursors, err := s.store.Cursors()
	if err != nil {
		return err
	}
	s.cursor = cursors[cursorName(s.settings.Name)]
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tally.Epoch, s.tally.Acked, s.tally.AckedRows = s.cursor.Epoch, s.cursor.Seq, s.cursor.Rows
	if s.cursor.Seq > 0 {
		s.tally.AckedAt = s.cursor.Updated
	}
	return nil
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

// sendOnce posts what waits, up to a request's worth, and is the number of parcels
// that were acknowledged.
func (s *Sender) sendOnce(ctx context.Context) (int, error) {
	parcels, err := s.store.Waiting(s.settings.Name, s.cursor.Seq+1, mostParcels, mostBytes)
	if err != nil {
		return 0, err
	}
	envelope := wire.Envelope{Gateway: s.gateway, Epoch: s.cursor.Epoch, FirstSeq: s.cursor.Seq + 1, Status: s.status()}
	for _, p := range parcels {
		envelope.Batches = append(envelope.Batches, p.Payload)
	}
	reply, err := s.post(ctx, envelope)
	var refused *refusal
	if errors.As(err, &refused) && refused.Code == wire.CodeGap {
		return 0, s.resume(ctx, refused.StoredSeq)
	}
	if err != nil {
		return 0, err
	}
	return s.acknowledged(ctx, parcels, reply.StoredSeq)
}

// isAhead reports whether the central has stored batches that this outbox never
// numbered: then the store here is an older copy, and what it numbers from now on
// would be taken for repeats.
func (s *Sender) isAhead(stored uint64) (bool, error) {
	last, err := s.store.LastSeq(s.settings.Name)
	return stored > max(last, s.cursor.Seq), err
}

func (s *Sender) status() wire.Status {
	status := s.describe()
	if backlog, err := s.store.Backlog(s.settings.Name); err == nil {
		status.BacklogRows, status.BacklogSince = backlog.Rows, backlog.Oldest
	}
	return status
}

// acknowledged drops what the central has.
func (s *Sender) acknowledged(ctx context.Context, parcels []store.Parcel, stored uint64) (int, error) {
	if ahead, err := s.isAhead(stored); err != nil || ahead {
		if err == nil {
			err = s.refill(ctx, stored)
		}
		return 0, err
	}
	count := 0
	next := s.cursor
	for _, p := range parcels {
		if p.Seq <= stored {
			count++
			next.Seq = p.Seq
			next.Rows += uint64(p.Rows)
		}
	}
	if count < len(parcels) {
		return 0, fmt.Errorf("%s stored up to %d of the batches up to %d it was sent", s.settings.Address, stored, parcels[len(parcels)-1].Seq)
	}
	if count == 0 {
		return 0, nil
	}
	next.Updated = time.Now()
	if err := s.store.Acknowledge(s.settings.Name, next); err != nil {
		return 0, err
	}
	s.cursor = next
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tally.Acked, s.tally.AckedRows, s.tally.AckedAt = next.Seq, next.Rows, next.Updated
	return count, nil
}

// resume continues where the central says it stands. When what comes next there has
// been dropped here, everything still kept is sent again in a new epoch.
func (s *Sender) resume(ctx context.Context, stored uint64) error {
	backlog, err := s.store.Backlog(s.settings.Name)
	if err != nil {
		return err
	}
	if backlog.First > 0 && backlog.First == stored+1 {
		s.cursor.Seq = stored
		return nil
	}
	return s.refill(ctx, stored)
}

// refill sends everything still kept here again, in a new epoch.
func (s *Sender) refill(ctx context.Context, stored uint64) error {
	s.log.Warn("the central and this gateway do not agree on what was sent; sending everything again", "acknowledged", s.cursor.Seq, "central_has", stored)
	if err := s.between(ctx, s.outbox.refill); err != nil {
		return err
	}
	s.mu.Lock()
	s.tally.Refills++
	s.mu.Unlock()
	return s.loadCursor()
}
