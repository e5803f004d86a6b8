package demo

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"nexocumula/internal/certs"
	"nexocumula/internal/service"
	"nexocumula/internal/sim"
)

// Options say how to run the demo.
type Options struct {
	Dir     string // its folder, emptied at the start
	Console string // host:port of the central; another port is taken when it is in use
	Days    int    // of history
	Seed    uint64
	Starts  time.Time // what the clock of the simulated world shows at the start; zero: the time it is
	Version string
	Log     *slog.Logger
}

// World is the running demo.
type World struct {
	Central  *service.Service
	Gateways map[string]*service.Service // by site
	Lake     *sim.Publisher
	Silo     *sim.Publisher
	Gate     *sim.Publisher
	Level    *sim.LevelScript
	History  int // readings written as history

	field   sim.Field
	links   map[string]*sim.Link // of each site to the central
	closers []func() error
	fieldOn context.CancelFunc // stops the publishers
	stop    context.CancelFunc
	running *errgroup.Group
}

// Midday returns a time of the simulated world's clock for tests and pictures, so that what they show does
// not depend on when they run: the noon after a night in which the aerator of raceway 4 tripped.
func Midday() time.Time { return time.Date(2026, 5, 13, 12, 0, 0, 0, time.UTC) }

// fieldEvery is how often the simulated MQTT devices speak.
const fieldEvery = 5 * time.Second

// scriptEvery is how often the script with the lake's level posts it.
const scriptEvery = 15 * time.Second

// Start starts everything and returns once it runs.
func Start(ctx context.Context, o Options) (_ *World, err error) {
	if err := prepare(o.Dir); err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(ctx)
	w := &World{links: map[string]*sim.Link{}, Gateways: map[string]*service.Service{}, field: sim.Field{Seed: o.Seed}.Starting(o.Starts), stop: stop}
	w.running, ctx = errgroup.WithContext(ctx)
	defer func() {
		if err != nil {
			err = errors.Join(err, w.Stop())
		}
	}()
	if err := w.startCentral(ctx, o); err != nil {
		return nil, err
	}
	if err := w.startSites(ctx, o); err != nil {
		return nil, err
	}
	return w, nil
}

func (w *World) startCentral(ctx context.Context, o Options) error {
	settings, err := configure(o.Dir, "central", places{Listen: o.Console})
	if err != nil {
		return err
	}
	if probe, err := net.Listen("tcp", o.Console); err != nil {
		host, _, _ := net.SplitHostPort(o.Console)
		o.Log.Warn("the console's address is in use; taking a free port", "address", o.Console)
		settings.Listen = net.JoinHostPort(host, "0")
	} else {
		probe.Close()
	}
	w.Central, err = service.Open(settings, o.Version, o.Log.With("service", "central"))
	if err != nil {
		return err
	}
	w.running.Go(func() error { return w.Central.Run(ctx) })
	return nil
}

// startSites starts the simulated stations, then the gateways that collect from
// them, each behind a link of its own to the central.
func (w *World) startSites(ctx context.Context, o Options) error {
	panel, err := sim.PumpPanel(w.field, "127.0.0.1:0")
	if err != nil {
		return err
	}
	w.closers = append(w.closers, panel.Close)
	probes, err := sim.Probes(w.field, "127.0.0.1:0")
	if err != nil {
		return err
	}
	w.closers = append(w.closers, probes.Close)
	devices, err := os.ReadFile(filepath.Join(o.Dir, devicesSecret))
	if err != nil {
		return err
	}
	token := strings.TrimSpace(string(devices))
	signs, err := certs.NewAuthority(filepath.Join(o.Dir, "certificates"))
	if err != nil {
		return err
	}
	broker, err := sim.StartSecuredBroker("127.0.0.1:0", signs, token)
	if err != nil {
		return err
	}
	w.closers = append(w.closers, broker.Close)
	weir, err := freeAddress()
	if err != nil {
		return err
	}
	lake, err := freeAddress()
	if err != nil {
		return err
	}
	sites := map[string]places{
		"alder-weir": {Device: panel.Address, Listener: weir},
		"stony-beck": {
			Device:    probes.Address,
			Broker:    broker.Address,
			Authority: signs.CA,
			Raceways:  []int{1, 2, 3, 4, 5, 6},
		},
		"long-mere": {Listener: lake},
	}
	if err := w.startGateways(ctx, o, sites); err != nil {
		return err
	}
	fieldCtx, stopField := context.WithCancel(ctx)
	w.fieldOn = stopField
	w.Lake = sim.LakeStations(fieldCtx, w.field, "tcp://"+lake, fieldEvery)
	w.Silo = sim.SiloScaleOf(fieldCtx, w.field, broker, fieldEvery)
	w.Gate = sim.InletGate(fieldCtx, w.field, "tcp://"+weir, fieldEvery)
	w.Level = sim.StartLevelScript(fieldCtx, w.field, w.Gateways["long-mere"].Address, token, scriptEvery)
	return nil
}

// startGateways writes the history of one site after the other, which takes less memory
// than side by side, and starts their gateways.
func (w *World) startGateways(ctx context.Context, o Options, sites map[string]places) error {
	for _, site := range sim.Sites {
		link, err := sim.StartLink(strings.TrimPrefix(w.Central.Address, "http://"))
		if err != nil {
			return err
		}
		w.links[site] = link
		g, written, err := w.startGateway(ctx, o, site, link, sites[site])
		if err != nil {
			return fmt.Errorf("starting %s: %w", site, err)
		}
		w.Gateways[site] = g
		w.History += written
	}
	return nil
}

func (w *World) startGateway(ctx context.Context, o Options, site string, link *sim.Link, p places) (*service.Service, int, error) {
	p.Central, p.Listen = "http://"+link.Address, "127.0.0.1:0"
	settings, err := configure(o.Dir, site, p)
	if err != nil {
		return nil, 0, err
	}
	written, err := w.writeHistory(ctx, o, settings)
	if err != nil {
		return nil, 0, err
	}
	g, err := service.Open(settings, o.Version, o.Log.With("service", site))
	if err != nil {
		return nil, 0, err
	}
	w.running.Go(func() error { return g.Run(ctx) })
	return g, written, nil
}

func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", fmt.Errorf("finding a free port: %w", err)
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// CutOff cuts the central off from the gateways of some sites, or of all without any, or mends that.
func (w *World) CutOff(cut bool, sites ...string) {
	for site, l := range w.links {
		if len(sites) == 0 || slices.Contains(sites, site) {
			l.Cut(cut)
		}
	}
}

// IsCutOff reports whether the central is cut off from any gateway.
func (w *World) IsCutOff() bool {
	for _, l := range w.links {
		if l.IsCut() {
			return true
		}
	}
	return false
}

// Wait returns when a service has failed or all have stopped.
func (w *World) Wait() error { return w.running.Wait() }

// Stop stops everything in order and returns the first failure.
func (w *World) Stop() error {
	if w.fieldOn != nil {
		w.fieldOn()
		for _, p := range []*sim.Publisher{w.Lake, w.Silo, w.Gate} {
			p.Close()
		}
	}
	w.stop()
	err := w.running.Wait()
	for _, l := range w.links {
		l.Close()
	}
	for _, c := range w.closers {
		err = errors.Join(err, c())
	}
	return err
}
