package service

import (
	"cmp"
	"context"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"nexocumula/internal/api"
	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/links"
	"nexocumula/internal/plain"
	"nexocumula/internal/replica"
	"nexocumula/internal/store/outbox"
	"nexocumula/internal/uplink"
	"nexocumula/internal/wire"
)

// consoleFor returns the address at which people at the central open this gateway's console: the configured one, or
// the own address if the central is on this machine.
func (s *Service) consoleFor(g *config.Gateway) string {
	if g.Console != "" {
		return g.Console
	}
	here := func(address string) bool {
		u, err := url.Parse(address)
		if err != nil {
			return false
		}
		ip, err := netip.ParseAddr(u.Hostname())
		return u.Hostname() == "localhost" || err == nil && ip.IsLoopback()
	}
	if here(s.Address) && !slices.ContainsFunc(g.Uplinks,
		func(u config.Uplink) bool { return !here(u.Settings.(uplink.Settings).Address()) }) {
		return s.Address
	}
	return ""
}

// uplinks are the uplinks that are open. A reload opens and closes some.
type uplinks struct {
	mu  sync.Mutex
	all []*runningUplink
	ctx context.Context // of Run; nil before
}

// runningUplink is one of them.
type runningUplink struct {
	config.Uplink
	sender *uplink.Sender
	cancel context.CancelFunc
	ended  chan struct{}
}

// start has it send until ctx ends or it is stopped.
func (u *runningUplink) start(ctx context.Context) {
	ctx, u.cancel = context.WithCancel(ctx)
	u.ended = make(chan struct{})
	go func() {
		defer close(u.ended)
		_ = u.sender.Run(ctx) // it ends with ctx only, and without an error
	}()
}

func (u *runningUplink) stop() {
	if u.cancel != nil {
		u.cancel()
		<-u.ended
	}
}

// describe says what this service tells its centrals of itself.
func (s *Service) describe(settings config.Settings) func() wire.Status {
	zones := s.zonesBy(settings)
	return func() wire.Status {
		status := wire.Status{SentAt: s.Store.Judge().Now().UTC(), Version: s.version, Zones: zones()}
		if s.Gateway != nil {
			status.Accepted, status.Rejected = s.Gateway.Pipe.Accepted(), s.Gateway.Pipe.Rejected()
			status.Console = s.consoleFor(s.settings.Load().Gateway)
		}
		if s.Central != nil {
			for _, l := range s.Central.Links() {
				status.Below = append(status.Below, wire.Below{Name: l.Gateway, Up: l.Up(status.SentAt), Below: l.Status.Below})
			}
			status.Below = wire.Within(status.Below)
		}
		return status
	}
}

// wanted is an uplink of a configuration, with the name under which this service sends and what is its to send.
type wanted struct {
	config.Uplink
	as  string
	own func(series.Path) bool
}

// wantedUplinks returns the uplinks of a configuration: those of the gateway send what was collected here, and those of
// the central all that it holds.
func wantedUplinks(settings config.Settings) (out []wanted) {
	if g := settings.Gateway; g != nil {
		own := func(p series.Path) bool { return strings.HasPrefix(string(p), g.Site+"/") }
		for _, u := range g.Uplinks {
			out = append(out, wanted{u, g.Site, own})
		}
	}
	if c := settings.Central; c != nil {
		for _, u := range c.Uplinks {
			out = append(out, wanted{u, c.Name, func(series.Path) bool { return true }})
		}
	}
	return out
}

// useUplinks opens the uplinks of a configuration, and closes those that it does not have like this. Uplinks that it
// does not name any more are forgotten. What runs goes on.
func (s *Service) useUplinks(settings config.Settings) (changed []string, err error) {
	l := &s.links
	l.mu.Lock()
	defer l.mu.Unlock()
	var names []string
	all := wantedUplinks(settings)
	same := func(w wanted, u *runningUplink) bool { return u.Name == w.Name && u.Print == w.Print }
	keep := l.all[:0:0]
	for _, u := range l.all {
		if slices.ContainsFunc(all, func(w wanted) bool { return same(w, u) }) {
			keep = append(keep, u)
			continue
		}
		u.stop()
		changed = append(changed, "uplink "+u.Name)
	}
	l.all = keep
	for _, w := range all {
		names = append(names, w.Name)
		if slices.ContainsFunc(keep, func(u *runningUplink) bool { return same(w, u) }) {
			continue
		}
		opened, err := s.openUplink(settings, w)
		if err != nil {
			return changed, err
		}
		if l.all = append(l.all, opened); l.ctx != nil {
			opened.start(l.ctx)
		}
		if name := "uplink " + w.Name; !slices.Contains(changed, name) {
			changed = append(changed, name)
		}
	}
	order := func(u *runningUplink) int { return slices.Index(names, u.Name) }
	slices.SortFunc(l.all, func(a, b *runningUplink) int { return order(a) - order(b) })
	return changed, s.Store.Outboxes.Forget(names)
}

func (s *Service) openUplink(settings config.Settings, w wanted) (*runningUplink, error) {
	box, err := s.Store.Outboxes.Open(w.Name, uplink.ScopeOf(w.Uplink, w.own))
	if err != nil {
		return nil, err
	}
	used, err := s.Store.State("used by " + w.Name)
	if err != nil {
		return nil, err
	}
	zone, err := plain.Zone(cmp.Or(settings.Zone, "UTC"))
	if err != nil {
		return nil, err
	}
	sender, err := uplink.New(w.Uplink, box, uplink.From{
		As:       w.as,
		Data:     settings.Data,
		Describe: s.describe(settings),
		Store:    s.Store,
		Zone:     zone,
		Used:     used,
		Keep:     func(used []byte) error { return s.Store.PutState("used by "+w.Name, used) },
		Records:  replica.Records(s.Store.Records, replica.Hooks{}),
		Requests: s.ledger,
		Log:      s.log,
	})
	if err != nil {
		return nil, err
	}
	return &runningUplink{Uplink: w.Uplink, sender: sender}, nil
}

// runUplinks has all uplinks send until ctx ends.
func (s *Service) runUplinks(ctx context.Context) error {
	l := &s.links
	l.mu.Lock()
	l.ctx = ctx
	for _, u := range l.all {
		u.start(ctx)
	}
	l.mu.Unlock()
	<-ctx.Done()
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, u := range l.all {
		u.stop()
	}
	return nil
}

// senders returns the senders of all uplinks.
func (s *Service) senders() (out []*uplink.Sender) {
	s.links.mu.Lock()
	defer s.links.mu.Unlock()
	for _, u := range s.links.all {
		out = append(out, u.sender)
	}
	return out
}

// outbox returns the outbox of an uplink; nil when there is none of that name.
func (s *Service) outbox(name string) *outbox.Outbox {
	s.links.mu.Lock()
	defer s.links.mu.Unlock()
	for _, u := range s.links.all {
		if u.Name == name {
			return u.sender.Outbox()
		}
	}
	return nil
}

// above returns the names of this service, and of the centrals that get what it receives.
func (s *Service) above() (names []string) {
	settings := s.settings.Load()
	if settings.Central != nil && settings.Central.Name != "" {
		names = append(names, settings.Central.Name)
	}
	if settings.Gateway != nil {
		names = append(names, settings.Gateway.Site)
	}
	for _, one := range s.senders() {
		if one.Sends() == settings.Central.Name {
			names = append(names, one.Tally().Above...)
		}
	}
	return names[:min(len(names), mostAbove)]
}

const mostAbove = 64

// Uplinks returns the state of all uplinks.
func (s *Service) Uplinks() []api.Uplink {
	all := s.senders()
	out := make([]api.Uplink, len(all))
	for i, one := range all {
		box := one.Outbox()
		out[i] = api.Uplink{Tally: one.Tally(), Acked: box.Acked(), Backlog: box.Backlog(), Refused: box.Refused()}
		out[i].Used = one.Meter().Used()
		if left, limited := one.Meter().Left(); limited {
			out[i].BytesLeft = &left
		}
		if found, ok := s.reconciled.Load(out[i].Name); ok {
			last := found.(Reconciled)
			answer := last.Answer()
			out[i].Reconciled = &answer
		}
	}
	return out
}

// linkStates returns the state of all links: the uplinks, the gateways heard here, and the sources.
func (s *Service) linkStates() (out []links.State) {
	for _, u := range s.Uplinks() {
		out = append(out, links.State{
			Link:   "to " + u.Name,
			Up:     u.Up,
			Reason: u.LastError,
			Rows:   u.Backlog.Rows,
			Oldest: u.Backlog.Oldest,
			Moved:  u.Acked.Rows,
		})
	}
	now := s.Store.Judge().Now()
	if s.Central != nil {
		for _, l := range s.Central.Links() {
			if l.HeardAt.IsZero() {
				continue // it has not begun yet
			}
			one := links.State{
				Link:   "from " + l.Gateway,
				Up:     l.Up(now),
				Since:  l.HeardAt,
				Reason: "nothing was heard",
				Rows:   l.Status.BacklogRows,
				Oldest: l.Status.BacklogSince,
				Moved:  l.Rows,
			}
			one.Return = links.Return{At: l.ReturnedAt, Rows: l.Returned.BacklogRows, Oldest: l.Returned.BacklogSince}
			if !one.Up && l.LastError != "" {
				one.Reason = l.LastError
			}
			out = append(out, one)
		}
	}
	if s.Gateway != nil {
		for _, source := range s.Gateway.Sources() {
			out = append(out, links.State{Link: "source " + source.Name, Up: source.Up, Reason: source.LastError})
		}
	}
	return out
}

const tidyEvery = time.Second
