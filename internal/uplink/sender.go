package uplink

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"nexocumula/internal/clock"
	"nexocumula/internal/config"
	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
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
	settings config.Uplink
	outbox   *outbox.Outbox
	from     From
	store    Store
	kinds    []replica.RecordKind
	carrier  Carrier // owned by Run
	meter    *Meter
	kept     time.Time // when what the meter counted was last kept
	refills  refills   // so is this
	log      *slog.Logger

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

	RefusedRecords uint64   // notes and the like that the central refused since the start
	Twin           string   // another process under this name; empty without one
	Above          []string // names of the central, and of those that it sends to
	twinAt         time.Time
}

// From is the service that an uplink sends from.
type From struct {
	As       string // its name there
	Data     string // its folder
	Describe func() wire.Status
	Store    Store
	Zone     *time.Location // whose days and hours limits are of; nil: UTC
	Used     []byte         // of the link, as Keep was given it
	Keep     func(used []byte) error
	Records  []replica.RecordKind
	Requests Requests // nil: nothing is carried out here
	Log      *slog.Logger
}

// Requests keeps what is asked of a service over an uplink.
type Requests interface {
	Take(uplink string, allow []string, in []wire.Request) error
}

// ScopeOf returns what an uplink sends of the series that are its service's to send.
func ScopeOf(u config.Uplink, own func(series.Path) bool) outbox.Scope {
	return outbox.Scope{
		Series:  func(p series.Path) bool { return own(p) && u.Sends(p) },
		About:   func(place string) bool { return own(series.Path(place+"/")) && u.SendsAbout(place) },
		Tiers:   u.Tiers,
		Selects: u.Selects(),
	}
}

// New makes a sender of what an outbox says that waits.
func New(settings config.Uplink, box *outbox.Outbox, from From) (*Sender, error) {
	log := from.Log.With("uplink", settings.Name)
	of := settings.Settings.(Settings)
	zone := from.Zone
	if zone == nil {
		zone = time.UTC
	}
	meter, err := newMeter(settings.Limits, from.Used, func() time.Time { return from.Store.Judge().Now().In(zone) })
	if err != nil {
		return nil, fmt.Errorf("reading how much uplink %s has used: %w", settings.Name, err)
	}
	carrier, err := of.Open(Opening{
		Meter: meter,
		As:    from.As, Data: from.Data, Uplink: settings.Name, Tiers: settings.Tiers,
		Peer: box.Peer(), Remember: box.SetPeer, Describe: from.Describe, Now: from.Store.Judge().Now, Log: log,
	})
	if err != nil {
		return nil, fmt.Errorf("opening uplink %s: %w", settings.Name, err)
	}
	if inOrder(carrier) {
		box.KeepOrder()
	} else {
		box.SetOrder(settings.Order)
	}
	return &Sender{
		settings: settings, from: from, meter: meter, outbox: box, store: from.Store, kinds: from.Records, carrier: carrier, log: log,
		tally: Tally{Name: settings.Name, Address: of.Address()},
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

// ErrNoComparison says that where an uplink sends to cannot be compared with.
var ErrNoComparison = errors.New("what this uplink sends to cannot be compared with")

// Compare asks where this uplink sends to what differs there.
func (s *Sender) Compare(ctx context.Context, in wire.Compare) (wire.Compared, error) {
	asker, ok := s.carrier.(Asker)
	if !ok {
		return wire.Compared{}, ErrNoComparison
	}
	return asker.Compare(ctx, in)
}

// ComparedBytes returns how many bytes comparisons have sent and received.
func (s *Sender) ComparedBytes() uint64 {
	if c, ok := s.carrier.(interface{ ComparedBytes() uint64 }); ok {
		return c.ComparedBytes()
	}
	return 0
}

// Sends returns the name under which it sends.
func (s *Sender) Sends() string { return s.from.As }

// Outbox returns the outbox that the sender empties.
func (s *Sender) Outbox() *outbox.Outbox { return s.outbox }

// Run sends until ctx ends. What cannot be sent stays marked; attempts are repeated after
// growing, randomly varied pauses.
func (s *Sender) Run(ctx context.Context) error {
	pause := &backoff.ExponentialBackOff{
		InitialInterval:     200 * time.Millisecond,
		Multiplier:          1.7,
		RandomizationFactor: 0.4,
		MaxInterval:         longestPause,
	}
	pause.Reset()
	defer s.outbox.PutBack()
	defer s.listen(ctx)()
	defer s.keepUsed(true)
	for ctx.Err() == nil {
		sent, err := s.SendOnce(ctx)
		s.note(err)
		if err == nil {
			err = s.outbox.Save()
		}
		wait := s.pause()
		if err != nil {
			wait = pause.NextBackOff()
		} else {
			pause.Reset()
			s.keepUsed(false)
			if left := s.outbox.Backlog(); sent > 0 && s.settings.Limits.Every == 0 && left.Rows+left.Records+left.Asked > 0 {
				continue
			}
		}
		s.rest(ctx, wait, err == nil)
	}
	return nil
}

const keepUsedEvery = time.Minute

// keepUsed keeps how much of the link was used, now and then.
func (s *Sender) keepUsed(now bool) {
	if s.from.Keep == nil || !now && time.Since(s.kept) < keepUsedEvery {
		return
	}
	s.kept = time.Now()
	_ = s.from.Keep(s.meter.Text()) // the store says itself what it cannot write
}

// Meter returns what counts the bytes of the uplink.
func (s *Sender) Meter() *Meter { return s.meter }

// pause returns how long to be silent when there is nothing to send, or when batches are to be far apart.
func (s *Sender) pause() time.Duration {
	out := max(signOfLife, s.settings.Limits.Every)
	if left, limited := s.meter.Left(); limited && left == 0 {
		out = max(out, usedUpPause)
	}
	return out
}

const usedUpPause = time.Minute

// rest waits; a new mark ends it early when the central is there to take it.
func (s *Sender) rest(ctx context.Context, wait time.Duration, up bool) {
	wake := s.outbox.Wake()
	if !up || wait > signOfLife {
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
	s.tally.Up = err == nil
	if err != nil {
		s.tally.Failures++
		s.tally.LastError = err.Error()
	}
}

// SendOnce sends one load, or a sign of life, and returns the number of summaries and records that
// were acknowledged.
func (s *Sender) SendOnce(ctx context.Context) (int, error) {
	var l Load
	loop := s.loop()
	if loop == nil {
		var err error
		if l, err = s.gather(ctx, s.carrier.Most()); err != nil {
			s.outbox.PutBack()
			return 0, err
		}
	}
	l.Backlog, l.Peer = s.outbox.Backlog(), s.outbox.Peer()
	if pause := s.pause(); pause > signOfLife {
		l.Every = pause
	}
	answer, err := s.carrier.Carry(ctx, l)
	if err != nil {
		s.isolate(&l, err)
		s.outbox.PutBack()
		return 0, err
	}
	if err := s.settle(&l, answer); err != nil {
		return 0, err
	}
	return l.Rows + l.Records.Count(), cmp.Or(s.takeRequests(answer.Requests), s.loop())
}

// takeRequests keeps what is asked of this service.
func (s *Sender) takeRequests(in []wire.Request) error {
	if s.from.Requests == nil || len(in) == 0 {
		return nil
	}
	in = slices.DeleteFunc(in, func(r wire.Request) bool {
		err := r.Check()
		if err != nil {
			event.RequestUnread.To(s.log, "error", err)
		}
		return err != nil
	})
	return s.from.Requests.Take(s.settings.Name, s.settings.Allow, in)
}

// LoopError says that what an uplink sends would come back.
type LoopError struct {
	As    string
	Above []string // the central and those above it; As is among them
}

func (l *LoopError) Error() string {
	return fmt.Sprintf("%s would get its own summaries back: %s sends to %s. Remove one of these uplinks", l.As, l.As,
		strings.Join(l.Above[:slices.Index(l.Above, l.As)+1], ", which sends to "))
}

// loop returns a LoopError when this service is above itself.
func (s *Sender) loop() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if slices.Contains(s.tally.Above, s.from.As) {
		return &LoopError{s.from.As, s.tally.Above}
	}
	return nil
}

// settle lets go of what has arrived. That something was lost there comes first: once the
// acknowledgement is noted, nothing would say so any more.
func (s *Sender) settle(l *Load, answer Answer) error {
	s.noteAnswer(answer)
	for _, run := range answer.Refused {
		if run.Run < 0 || run.Run >= len(l.Of) {
			continue
		}
		event.SeriesRefused.To(s.log, "series", run.Path, "reason", run.Reason)
		s.outbox.Refuse(l.Of[run.Run], run.Reason, refusedFor)
	}
	switch refill := answer.Everything != ""; {
	case refill && !s.refills.due(time.Now()):
		// Nothing is let go of, so that the next answer says it again.
		s.outbox.PutBack()
		return &TooOftenError{s.refills.next}
	case refill:
		event.Refill.To(s.log, "why", answer.Everything)
		if err := s.outbox.MarkEverything(answer.Peer); err != nil {
			s.outbox.PutBack()
			return err
		}
		s.refills.began(time.Now())
		s.mu.Lock()
		s.tally.Refills++
		s.mu.Unlock()
	}
	if !l.Empty() {
		s.outbox.Acknowledge(answer.Peer)
		return nil
	}
	s.outbox.Settle()
	return nil
}

// noteAnswer takes over what an answer says besides.
func (s *Sender) noteAnswer(answer Answer) {
	for _, one := range answer.RefusedRecords {
		event.RecordRefused.To(s.log, "kind", one.Kind,
			"record", one.Place, "reason", one.Reason)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tally.Above = answer.Above
	s.tally.RefusedRecords += uint64(len(answer.RefusedRecords))
	if s.tally.Twin = answer.Twin; answer.Twin != "" {
		s.tally.twinAt = time.Now()
	}
}

// isolate finds what makes a whole load unreadable: the next one is smaller, down to a single
// series, which is then set aside.
func (s *Sender) isolate(l *Load, err error) {
	unreadable, ok := errors.AsType[*UnreadableError](err)
	if !ok {
		return
	}
	if oneOf(l.Of) && l.Rows > 0 {
		event.SeriesUnread.To(s.log, "series", l.Runs[0].Def.Path,
			"reason", unreadable.Reason)
		s.outbox.Refuse(l.Of[0], unreadable.Reason, refusedFor)
		return
	}
	s.carrier.Smaller()
}

func oneOf(of []marks.Of) bool {
	for _, one := range of {
		if one != of[0] {
			return false
		}
	}
	return true
}
