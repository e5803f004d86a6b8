// Package gateway is the service at the edge: the sources, and the pipeline to disk.
package gateway

import (
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/core/gap"
	"nexocumula/internal/event"
	"nexocumula/internal/gateway/modbus"
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

	changing sync.Mutex // one change at a time

	mu      sync.Mutex // guards what follows
	sources []*running
	running context.Context // of the sources; nil while the gateway does not run
	failed  chan error      // room for one: a source that cannot go on
}

// running is a source, and how to end it.
type running struct {
	config config.Source
	stop   context.CancelFunc
	ended  chan struct{}

	mu      sync.Mutex
	now     source.Source // made anew when it cannot go on
	trouble string        // why it could not
}

// New makes a gateway on an open store; Run starts it.
func New(settings config.Gateway, st *store.Store, log *slog.Logger) (*Gateway, error) {
	pipe, err := pipeline.New(st, settings, log)
	if err != nil {
		return nil, err
	}
	g := &Gateway{Site: settings.Site, Pipe: pipe, log: log, failed: make(chan error, 1)}
	pipe.ExplainAbsence(g.absent)
	g.Use(settings)
	return g, nil
}

// absent returns when what a source has at a place did not answer, as far as the source knows.
func (g *Gateway) absent(name, place string, from, to int64) []gap.Episode {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.sources {
		if knows, ok := s.source().(source.Absences); ok && s.config.Name == name {
			return knows.Absent(place, from, to)
		}
	}
	return nil
}

// Use puts other rules and sources in the place of those there were, and names the sources
// that it started, restarted and ended; those that did not change go on. Those that ended have
// when it returns; what they accepted is still being committed.
func (g *Gateway) Use(settings config.Gateway) (changed []string) {
	g.changing.Lock()
	defer g.changing.Unlock()
	kept := map[string]*running{}
	var ending []*running
	g.mu.Lock()
	for _, s := range g.sources {
		if slices.ContainsFunc(settings.Sources, s.runs) {
			kept[s.config.Name] = s
			continue
		}
		ending = append(ending, s)
		changed = append(changed, s.config.Name)
	}
	g.mu.Unlock()
	end(ending) // which may take long, for a disk that cannot be written
	g.Pipe.Use(settings.Rules, settings.Keep)
	sources := make([]*running, len(settings.Sources))
	for i, s := range settings.Sources {
		if sources[i] = kept[s.Name]; sources[i] != nil {
			continue
		}
		if !slices.Contains(changed, s.Name) {
			changed = append(changed, s.Name)
		}
		sources[i] = &running{config: s}
		sources[i].renew(g)
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	g.sources = sources
	for _, s := range sources {
		if s.ended == nil {
			g.start(s, true)
		}
	}
	return changed
}

// runs reports whether a source of the configuration runs the one that runs.
func (s *running) runs(c config.Source) bool {
	return s.config.Name == c.Name && s.config.Kind == c.Kind && s.config.Print == c.Print && c.Print != ""
}

// Runs returns the counts of a source of a configuration, if it runs exactly as configured.
func (g *Gateway) Runs(c config.Source) (source.Tally, bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.sources {
		if s.runs(c) {
			return s.tally(), true
		}
	}
	return source.Tally{}, false
}

// start starts a source once the gateway runs. One that cannot go on stops the gateway, but not
// when it was only started by a reload: then it is shown as down, and tried again. g.mu is held.
func (g *Gateway) start(s *running, reloaded bool) {
	if g.running == nil {
		return
	}
	ctx, stop := context.WithCancel(g.running)
	s.stop, s.ended = stop, make(chan struct{})
	go func() {
		defer close(s.ended)
		err := s.source().Run(ctx)
		for err != nil && reloaded && ctx.Err() == nil {
			event.SourceFailed.To(g.log, "source", s.config.Name, "error", err)
			s.failed(err.Error())
			select {
			case <-time.After(tryAgain):
			case <-ctx.Done():
				return
			}
			err = s.renew(g).Run(ctx)
		}
		if err != nil && ctx.Err() == nil {
			select {
			case g.failed <- err:
			default: // one is enough
			}
		}
	}()
}

const tryAgain = 5 * time.Second

func (s *running) source() source.Source {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.now
}

func (s *running) failed(text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.trouble = text
}

// renew makes the source anew.
func (s *running) renew(g *Gateway) source.Source {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.now, s.trouble = s.config.Settings.(source.Settings).Open(s.config.Name, g.Pipe, g.log), ""
	return s.now
}

// tally returns the source's present counts.
func (s *running) tally() source.Tally {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.now.Tally()
	if s.trouble != "" {
		out.Up, out.LastError = false, s.trouble
	}
	return out
}

// end ends sources that run.
func end(sources []*running) {
	for _, s := range sources {
		if s.stop != nil {
			s.stop()
		}
	}
	for _, s := range sources {
		if s.ended != nil {
			<-s.ended
		}
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

	sourcesCtx, stopSources := context.WithCancel(ctx)
	defer stopSources()
	g.mu.Lock()
	g.running = sourcesCtx
	for _, s := range g.sources {
		g.start(s, false)
	}
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
	g.running = nil // none is started any more
	ending := slices.Clone(g.sources)
	g.mu.Unlock()
	for _, s := range ending { // they stay in the list, to be looked at meanwhile
		<-s.ended
	}
	late.Stop()
	stopPipe()
	if pipeErr := <-piped; err == nil {
		err = pipeErr
	}
	return err
}

// Opened waits until devices are let in by all sources that they come to, or ctx ends.
func (g *Gateway) Opened(ctx context.Context) {
	g.mu.Lock()
	sources := slices.Clone(g.sources)
	g.mu.Unlock()
	for _, s := range sources {
		if door, ok := s.source().(source.Door); ok {
			select {
			case <-door.Opened():
			case <-ctx.Done():
			}
		}
	}
}

// Receiver returns the push source and the sender that a token belongs to, or nil.
func (g *Gateway) Receiver(token string) (*push.Receiver, *push.Sender) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.sources {
		if r, ok := s.source().(*push.Receiver); ok {
			if sender := r.Sender(token); sender != nil {
				return r, sender
			}
		}
	}
	return nil, nil
}

// ReceiverNamed returns the push source and the sender of a name, which showed a token that was
// made for it; nil when nobody knows it.
func (g *Gateway) ReceiverNamed(name string) (*push.Receiver, *push.Sender) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.sources {
		if r, ok := s.source().(*push.Receiver); ok {
			if sender := r.Named(name); sender != nil {
				return r, sender
			}
		}
	}
	return nil, nil
}

// Reader returns the source of a name that can be asked to read now; nil when there is none. What
// there is comes as names.
func (g *Gateway) Reader(name string) (found source.Reader, names []string) {
	return named[source.Reader](g, name)
}

// Lender returns the source of a name that lends its line to devices.
func (g *Gateway) Lender(name string) (found modbus.Lender, names []string) {
	return named[modbus.Lender](g, name)
}

// Looker returns the source of a name at which can be seen what is published.
func (g *Gateway) Looker(name string) (found source.Looker, names []string) {
	return named[source.Looker](g, name)
}

// named returns the source of a name, of those that can do what T says.
func named[T any](g *Gateway, name string) (found T, names []string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, s := range g.sources {
		if r, ok := s.source().(T); ok {
			if names = append(names, s.config.Name); s.config.Name == name {
				found = r
			}
		}
	}
	return found, names
}

// Sources returns the counts of all sources, in the order of the configuration.
func (g *Gateway) Sources() []source.Tally {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := make([]source.Tally, len(g.sources))
	for i, s := range g.sources {
		out[i] = s.tally()
	}
	return out
}
