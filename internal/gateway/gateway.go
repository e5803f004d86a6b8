// Package gateway is the service at the edge: the sources, and the pipeline to disk.
package gateway

import (
	"context"
	"log/slog"
	"time"

	"golang.org/x/sync/errgroup"

	"nexocumula/internal/config"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/store"
)

// Gateway is one running gateway.
type Gateway struct {
	Site    string
	Pipe    *pipeline.Pipeline
	sources []runner
}

type runner interface {
	Run(ctx context.Context) error
	Tally() source.Tally
}

// New makes a gateway on an open store; Run starts it.
func New(settings config.Gateway, st *store.Store, log *slog.Logger) (*Gateway, error) {
	pipe, err := pipeline.New(st, settings, log)
	if err != nil {
		return nil, err
	}
	g := &Gateway{Site: settings.Site, Pipe: pipe}
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

// endWithin is how long the sources have to end by themselves when the gateway stops.
// After it those that wait, for a disk that cannot be written or a clock that is not set,
// are sent away.
const endWithin = 3 * time.Second

// Run collects until ctx ends. The sources stop before the pipeline, so that what they
// took in is still written.
func (g *Gateway) Run(ctx context.Context) error {
	pipeCtx, stopPipe := context.WithCancel(context.WithoutCancel(ctx))
	defer stopPipe()
	piped := make(chan error, 1)
	go func() { piped <- g.Pipe.Run(pipeCtx) }()

	group, groupCtx := errgroup.WithContext(ctx)
	for _, s := range g.sources {
		group.Go(func() error { return s.Run(groupCtx) })
	}
	group.Go(func() error { <-groupCtx.Done(); return nil })
	ended := make(chan struct{})
	go func() {
		<-groupCtx.Done()
		select {
		case <-time.After(endWithin):
			stopPipe() // a commit that is tried again and again ends with it
			g.Pipe.GiveUp()
		case <-ended:
		}
	}()
	err := group.Wait()
	close(ended)
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
