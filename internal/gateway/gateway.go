// Package gateway is the service at the edge: sources, the pipeline to disk, and the
// uplinks to central.
package gateway

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"golang.org/x/sync/errgroup"

	"nexocumula/internal/config"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/gateway/uplink"
	"nexocumula/internal/store"
	"nexocumula/internal/wire"
)

// Gateway is one running gateway.
type Gateway struct {
	Site    string
	Pipe    *pipeline.Pipeline
	sources []runner
	senders []*uplink.Sender
	store   *store.Store
}

type runner interface {
	Run(ctx context.Context) error
	Tally() source.Tally
}

// New makes a gateway on an open store; Run starts it.
func New(settings config.Gateway, st *store.Store, version string, log *slog.Logger) (*Gateway, error) {
	g := &Gateway{Site: settings.Site, store: st}
	var boxes []*uplink.Outbox
	var outs []pipeline.Outbox
	for _, u := range settings.Uplinks {
		box, err := uplink.OpenOutbox(u, st)
		if err != nil {
			return nil, fmt.Errorf("uplink %s: %w", u.Name, err)
		}
		boxes, outs = append(boxes, box), append(outs, box)
	}
	pipe, err := pipeline.New(st, settings.Rules, settings.Keep, outs, log)
	if err != nil {
		return nil, err
	}
	g.Pipe = pipe
	describe := func() wire.Status {
		return wire.Status{SentAt: time.Now().UTC(), Version: version, Accepted: pipe.Accepted(), Rejected: pipe.Rejected()}
	}
	for i, u := range settings.Uplinks {
		g.senders = append(g.senders, uplink.NewSender(settings.Site, u, boxes[i], st, pipe.Between, describe, log))
	}
	for _, s := range settings.Sources {
		g.sources = append(g.sources, newSource(s, pipe, log))
	}
	return g, nil
}

func newSource(s config.Source, pipe *pipeline.Pipeline, log *slog.Logger) runner {
	switch {
	case s.Listener != nil:
		return source.NewListener(s.Name, *s.Listener, pipe, log)
	case s.Broker != nil:
		return source.NewBroker(s.Name, *s.Broker, pipe, log)
	default:
		return source.NewModbus(s.Name, *s.Modbus, pipe, log)
	}
}

// Run collects and replicates until ctx ends. The sources stop before the pipeline,
// so that what they took in is still written.
func (g *Gateway) Run(ctx context.Context) error {
	pipeCtx, stopPipe := context.WithCancel(context.WithoutCancel(ctx))
	defer stopPipe()
	piped := make(chan error, 1)
	go func() { piped <- g.Pipe.Run(pipeCtx) }()

	group, groupCtx := errgroup.WithContext(ctx)
	for _, s := range g.sources {
		group.Go(func() error { return s.Run(groupCtx) })
	}
	for _, s := range g.senders {
		group.Go(func() error { return s.Run(groupCtx) })
	}
	group.Go(func() error { <-groupCtx.Done(); return nil })
	err := group.Wait()
	stopPipe()
	if pipeErr := <-piped; err == nil {
		err = pipeErr
	}
	return err
}

// Sources are how the sources stand, in the order of the configuration.
func (g *Gateway) Sources() []source.Tally {
	out := make([]source.Tally, len(g.sources))
	for i, s := range g.sources {
		out[i] = s.Tally()
	}
	return out
}

// Uplink is how an uplink stands and what waits for it.
type Uplink struct {
	uplink.Tally
	Backlog store.Backlog
}

// Uplinks are how the uplinks stand.
func (g *Gateway) Uplinks() ([]Uplink, error) {
	out := make([]Uplink, len(g.senders))
	for i, s := range g.senders {
		tally := s.Tally()
		backlog, err := g.store.Backlog(tally.Name)
		if err != nil {
			return nil, err
		}
		out[i] = Uplink{tally, backlog}
	}
	return out, nil
}
