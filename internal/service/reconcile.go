package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/request"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/reconcile"
	"nexocumula/internal/replica"
	"nexocumula/internal/requests"
	"nexocumula/internal/store/records"
	"nexocumula/internal/uplink"
	"nexocumula/internal/wire"
)

// NoUplinkError says that there is no uplink of a name.
type NoUplinkError struct {
	Name  string
	Names []string
}

func (n *NoUplinkError) Error() string {
	return fmt.Sprintf("no uplink is called %q; there are %v", n.Name, n.Names)
}

// UnknownUplink marks it for the HTTP interface.
func (n *NoUplinkError) UnknownUplink() {}

const (
	reconcileSettle = 3 * time.Second
	unsettled       = 2 * time.Minute // younger summaries are on their way
)

// keptFrom returns since when all summaries of a tier are kept, whatever their series.
func (s *Service) keptFrom(tier series.Tier) int64 {
	shortest := time.Duration(0)
	for _, k := range s.settings.Load().Keep {
		if (k.Tier == tier || tier == 0 && k.Tier != series.Readings) && k.For > 0 && (shortest == 0 || k.For < shortest) {
			shortest = k.For
		}
	}
	if shortest == 0 {
		return 0
	}
	return s.Store.Judge().Now().Add(-shortest).UnixNano()
}

// Reconciled is what comparing what an uplink has sent found.
type Reconciled struct {
	reconcile.Result
	Uplink string
	Here   string // name under which this service sends
	At     time.Time
	From   time.Time
	To     time.Time
	Bytes  uint64 // sent and received
	Took   time.Duration
}

// Reconcile compares what an uplink has sent with what there is at the other end, and may mend it there.
func (s *Service) Reconcile(ctx context.Context, name string, from, to time.Time, mend bool) (out Reconciled, err error) {
	s.reconciling.Lock()
	defer s.reconciling.Unlock()
	var of *runningUplink
	var names []string
	s.links.mu.Lock()
	for _, u := range s.links.all {
		if names = append(names, u.Name); u.Name == name {
			of = u
		}
	}
	s.links.mu.Unlock()
	if of == nil {
		return out, &NoUplinkError{name, names}
	}
	if settled := s.Store.Judge().Now().Add(-unsettled); to.IsZero() || to.After(settled) {
		to = settled
	}
	out = Reconciled{Uplink: name, Here: of.sender.Sends(), At: s.Store.Judge().Now(), From: from, To: to}
	begun, before := time.Now(), of.sender.ComparedBytes()
	c := s.comparer(of)
	out.Result, err = c.Run(ctx, from.UnixNano(), to.UnixNano())
	if err == nil && mend && out.Different() > 0 {
		out.Result, err = c.Mend(ctx, out.Result, from.UnixNano(), to.UnixNano())
	}
	out.Took, out.Bytes = time.Since(begun), of.sender.ComparedBytes()-before
	if err == nil {
		event.Reconciled.To(s.log, "uplink", name, "found", out.Text(out.Here, name))
		s.reconciled.Store(name, out)
	}
	return out, err
}

func (s *Service) comparer(of *runningUplink) *reconcile.Comparer {
	box := of.sender.Outbox()
	own := func(series.Path) bool { return true }
	for _, w := range wantedUplinks(*s.settings.Load()) {
		if w.Name == of.Name {
			own = w.own
		}
	}
	scope := uplink.ScopeOf(of.Uplink, own)
	kinds := slices.DeleteFunc(replica.Records(s.Store.Records, replica.Hooks{}), func(k replica.RecordKind) bool {
		return of.Records != nil && !slices.Contains(of.Records, k.Name)
	})
	return &reconcile.Comparer{
		Store: s.Store, Box: box, Kinds: kinds, Sends: scope.Series, About: scope.About, Only: of.Select != nil, Tiers: of.Tiers,
		Kept: s.keptFrom, Ask: of.sender.Compare, Settle: reconcileSettle,
	}
}

// teller tells gateways what is held here.
func (s *Service) teller() *reconcile.Teller {
	kinds := replica.Records(s.Store.Records, replica.Hooks{})
	return &reconcile.Teller{
		Store: s.Store, Kept: s.keptFrom, Called: s.Store.Called,
		Records: func(kind string, sites []string) ([]wire.RecordState, error) {
			i := slices.IndexFunc(kinds, func(k replica.RecordKind) bool { return k.Name == kind })
			if i < 0 || !slices.Contains(reconcile.Compared, kind) {
				return nil, nil // they are missing here
			}
			return reconcile.States(kinds[i], reconcile.OfSites(sites))
		},
	}
}

// compare answers a gateway that compares.
func (s *Service) compare(ctx context.Context, token, from string, body []byte) ([]byte, error) {
	return s.Central.Compare(ctx, s.teller(), token, from, body)
}

// reconcileAsAsked compares because a central asks for it.
func (s *Service) reconcileAsAsked(ctx context.Context, r records.Request) (out requests.Outcome, err error) {
	var body request.ReconcileBody
	if err := json.Unmarshal(r.Body, &body); err != nil {
		return out, &requests.RefusedError{Reason: "its body is not as docs/replication.md has it: " + err.Error()}
	}
	got, err := s.Reconcile(ctx, r.By, body.From, body.To, body.Mend)
	if _, none := errors.AsType[*NoUplinkError](err); none || errors.Is(err, uplink.ErrNoComparison) {
		return out, &requests.RefusedError{Reason: err.Error()}
	}
	if err != nil {
		return out, err
	}
	return requests.Outcome{Done: true, Detail: got.Text(got.Here, got.Uplink), Answer: got.Answer()}, nil
}

// Answer returns what was found as requests and the HTTP interface say it.
func (r *Reconciled) Answer() request.ReconcileAnswer {
	out := request.ReconcileAnswer{
		Uplink: r.Uplink, Site: r.Here, At: r.At.UTC(), From: r.From.UTC(), To: r.To.UTC(), Series: r.Series, Equal: r.Rows, Records: r.Records,
		Different: r.Different(), Waiting: r.Waiting, Mended: r.Mended, Bytes: r.Bytes, Seconds: r.Took.Seconds(),
		Differences: []request.Difference{}, Text: r.Text(r.Here, r.Uplink),
	}
	for _, s := range r.Scopes {
		if at := time.Unix(0, s.From).UTC(); at.After(out.From) {
			out.From = at // of what is kept
		}
	}
	for _, d := range r.Differences[:min(len(r.Differences), request.MostDifferences)] {
		one := request.Difference{What: d.What, Path: d.Path}
		if d.Start != 0 {
			one.Start, one.Tier = time.Unix(0, d.Start).UTC().Format(time.RFC3339), tierName(d.Tier)
		}
		out.Differences = append(out.Differences, one)
	}
	for _, d := range r.RecordsDiffer[:min(len(r.RecordsDiffer), request.MostDifferences)] {
		out.Differences = append(out.Differences, request.Difference{What: d.What, Kind: d.Kind, ID: d.ID})
	}
	return out
}

func tierName(tier int64) string {
	if tier == 0 {
		return "sketches"
	}
	return series.Tier(tier).String()
}

const (
	lightEvery = 24 * time.Hour
	lightFirst = time.Hour
	lightSpan  = 2 * 24 * time.Hour
)

// reconcileNightly compares the last two days of each uplink once a day, until ctx ends.
func (s *Service) reconcileNightly(ctx context.Context) error {
	timer := time.NewTimer(lightFirst)
	defer timer.Stop()
	for {
		select {
		case <-timer.C:
		case <-ctx.Done():
			return nil
		}
		for _, w := range wantedUplinks(*s.settings.Load()) {
			s.reconcileLight(ctx, w.Uplink)
		}
		timer.Reset(lightEvery)
	}
}

func (s *Service) reconcileLight(ctx context.Context, u config.Uplink) {
	now := s.Store.Judge().Now()
	_, err := s.Reconcile(ctx, u.Name, now.Add(-lightSpan), now, false)
	if err != nil && ctx.Err() == nil && !errors.Is(err, uplink.ErrNoComparison) {
		event.ReconcileFailed.To(s.log, "uplink", u.Name, "error", err)
	}
}

// reconcileNow is Reconcile for the HTTP interface.
func (s *Service) reconcileNow(ctx context.Context, name string, from, to time.Time, mend bool) (out request.ReconcileAnswer, err error) {
	got, err := s.Reconcile(ctx, name, from, to, mend)
	if err != nil {
		return out, err
	}
	return got.Answer(), nil
}
