// Package gateway is the service at the edge: the sources, and the pipeline to disk.
package gateway

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/gateway/pipeline"
	"nexocumula/internal/gateway/push"
	"nexocumula/internal/gateway/source"
	"nexocumula/internal/store"
)

// Gateway is one running gateway. Its sources and rules may be replaced while it runs; the
// pipeline and its open windows stay.
type Gateway struct {
	Site string
	Pipe *pipeline.Pipeline
	log  *slog.Logger

	mu      sync.Mutex // guards what follows
	sources []*running
	running context.Context // of the sources; nil while the gateway does not run
	failed  chan error      // room for one: a source that cannot go on
}

// running is a source, and how to end it.
type running struct {
	source.Source
	stop  context.CancelFunc
	ended chan struct{}
}

// New makes a gateway on an open store; Run starts it.
func New(settings config.Gateway, st *store.Store, log *slog.Logger) (*Gateway, error) {
	pipe, err := pipeline.New(st, settings, log)
	if err != nil {
		return nil, err
	}
	g := &Gateway{Site: settings.Site, Pipe: pipe, log: log, failed: make(chan error, 1)}
	g.Use(settings)
	return g, nil
}

// Use puts other rules and sources in the place of those there were. The old sources have
// ended when it returns; what they took in is on its way.
func (g *Gateway) Use(settings config.Gateway) {
	g.Pipe.Use(settings.Rules, settings.Keep)
	g.mu.Lock()
	defer g.mu.Unlock()
	g.end()
	for _, s := range settings.Sources {
		g.sources = append(g.sources, &running{Source: s.Settings.(source.Settings).Open(s.Name, g.Pipe, g.log)})
	}
	g.start()
}

// start starts the sources once the gateway runs. mu is held.
func (g *Gateway) start() {
	if g.running == nil {
		return
	}
	for _, s := range g.sources {
		ctx, stop := context.WithCancel(g.running)
		s.stop, s.ended = stop, make(chan struct{})
		go func() {
			defer close(s.ended)
			if err := s.Run(ctx); err != nil {
				select {
				case g.failed <- err:
				default: // one is enough
				}
			}
		}()
	}
}

// end ends the sources that run. mu is held.
func (g *Gateway) end() {
	for _, s := range g.sources {
		if s.stop != nil {
			s.stop()
		}
	}
	for _, s := range g.sources {
		if s.ended != nil {
			<-s.ended
		}
	}
	g.sources = nil
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

	sourcesCtx, stopSources := context.WithCancel(ctx)
	defer stopSources()
	g.mu.Lock()
	g.running = sourcesCtx
	g.start()
	g.mu.Unlock()
	var err error
	select {
	case err = <-g.failed:
	case <-ctx.Done():
	}
	stopSources()
	late := time.AfterFunc(endWithin, func() {
		stopPipe() // a commit that is tried again and again ends with it
		g.Pipe.GiveUp()
	})
	g.mu.Lock()
	for _, s := range g.sources { // they stay in the list, to be looked at
		<-s.ended
	}
	g.running = nil
	g.mu.Unlock()
	late.Stop()
	stopPipe()
	if pipeErr := <-piped; err == nil {
		err = pipeErr
	}
	return err
}

// Receiver is who takes what the sender with a token brings; nil when nobody knows it.
func (g *Gateway) Receiver(token string) (*push.Receiver, *push.Sender) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.sources {
		if r, ok := s.Source.(*push.Receiver); ok {
			if sender := r.Sender(token); sender != nil {
				return r, sender
			}
		}
	}
	return nil, nil
}

// Reader is the source of a name that can be asked to read now; nil when there is none. What
// there is comes as names.
func (g *Gateway) Reader(name string) (found source.Reader, names []string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.sources {
		if r, ok := s.Source.(source.Reader); ok {
			if names = append(names, s.Tally().Name); names[len(names)-1] == name {
				found = r
			}
		}
	}
	return found, names
}

// Sources are how the sources stand, in the order of the configuration.
func (g *Gateway) Sources() []source.Tally {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := make([]source.Tally, len(g.sources))
	for i, s := range g.sources {
		out[i] = s.Tally()
	}
	return out
}
