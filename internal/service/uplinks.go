package service

import (
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"nexocumula/internal/api"
	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/links"
	"nexocumula/internal/replica"
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

// openUplinks makes the senders: those of the gateway send what was collected here, and
// those of the central all that it holds. Uplinks that the configuration does not name any
// more are forgotten.
func (s *Service) openUplinks(settings config.Settings, version string) error {
	zones := s.zonesBy(settings)
	describe := func() wire.Status {
		status := wire.Status{SentAt: s.Store.Judge().Now().UTC(), Version: version, Zones: zones()}
		if s.Gateway != nil {
			status.Accepted, status.Rejected = s.Gateway.Pipe.Accepted(), s.Gateway.Pipe.Rejected()
			status.Console = s.consoleFor(settings.Gateway)
		}
		return status
	}
	var names []string
	open := func(as string, all []config.Uplink, mine func(series.Path) bool) error {
		for _, u := range all {
			box, err := s.Store.Outboxes.Open(u.Name, u.Tiers, mine)
			if err != nil {
				return err
			}
			sender, err := uplink.New(u, box, uplink.From{
				As:       as,
				Data:     settings.Data,
				Describe: describe,
				Store:    s.Store,
				Records:  replica.Records(s.Store.Records, nil),
				Log:      s.log,
			})
			if err != nil {
				return err
			}
			s.senders, names = append(s.senders, sender), append(names, u.Name)
		}
		return nil
	}
	if g := settings.Gateway; g != nil {
		own := func(p series.Path) bool { return strings.HasPrefix(string(p), g.Site+"/") }
		if err := open(g.Site, g.Uplinks, own); err != nil {
			return err
		}
	}
	if c := settings.Central; c != nil {
		if err := open(c.Name, c.Uplinks, func(series.Path) bool { return true }); err != nil {
			return err
		}
	}
	return s.Store.Outboxes.Forget(names)
}

// Uplinks returns the state of all uplinks.
func (s *Service) Uplinks() []api.Uplink {
	out := make([]api.Uplink, len(s.senders))
	for i, one := range s.senders {
		box := one.Outbox()
		out[i] = api.Uplink{Tally: one.Tally(), Acked: box.Acked(), Backlog: box.Backlog(), Refused: box.Refused()}
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
