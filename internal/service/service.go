// Package service runs what one configuration describes, a gateway, a central or
// both, with its store and its HTTP interface.
package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"nexocumula/internal/access"
	"nexocumula/internal/api"
	"nexocumula/internal/central"
	"nexocumula/internal/certs"
	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/folder"
	"nexocumula/internal/gateway"
	"nexocumula/internal/links"
	"nexocumula/internal/plain"
	"nexocumula/internal/removal"
	"nexocumula/internal/repair"
	"nexocumula/internal/requests"
	"nexocumula/internal/room"
	"nexocumula/internal/store"
	"nexocumula/internal/store/engine"
	"nexocumula/internal/store/records"
	"nexocumula/internal/supervision"
	"nexocumula/web"
)

// StoreFile is the store's name in its folder.
const StoreFile = "nexocumula.db"

// Service is one opened service; Run starts it, Close closes it.
type Service struct {
	Store       *store.Store
	Gateway     *gateway.Gateway // nil when it is none
	Central     *central.Receiver
	links       uplinks
	ledger      *requests.Ledger
	reconciling sync.Mutex // one comparison at a time
	reconciled  sync.Map   // by uplink: the last Reconciled
	Address     string     // of the HTTP interface, with the port that was found
	listen      net.Listener
	handler     func(stopping <-chan struct{}) http.Handler
	tls         *config.TLS // nil: plain HTTP
	book        *access.Book
	folder      *folder.Folder
	history     *links.History
	backups     *backups
	space       space
	room        *room.Keeper
	remover     *removal.Remover
	repairer    *repair.Repairer
	giveUp      time.Duration
	dropped     *atomic.Uint64 // rows, by retention
	log         *slog.Logger
	version     string

	settings  atomic.Pointer[config.Settings]
	reloading sync.Mutex
}

// Open opens the store and the HTTP listener.
func Open(settings config.Settings, version string, log *slog.Logger) (_ *Service, err error) {
	s := &Service{log: log, version: version, giveUp: settings.GiveUp, dropped: new(atomic.Uint64)}
	s.settings.Store(&settings)
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	if s.folder, err = folder.Take(settings.Data); err != nil {
		return nil, err
	}
	if s.Store, err = store.Open(filepath.Join(settings.Data, StoreFile), log, store.Options{Away: settings.AwayFor}); err != nil {
		return nil, err
	}
	if s.book, err = openBook(settings, s.Store.Judge().Now, log); err != nil {
		return nil, err
	}
	if settings.Gateway != nil {
		if s.Gateway, err = gateway.New(*settings.Gateway, s.Store, log); err != nil {
			return nil, err
		}
	}
	if settings.Central != nil {
		if s.Central, err = central.NewReceiver(*settings.Central, s.Store, s.Store.Records, s.book); err != nil {
			return nil, err
		}
	}
	s.ledger = s.newLedger(settings)
	if s.Central != nil {
		s.Central.Use(s.ledger)
		s.Central.NameAbove(s.above)
	}
	if _, err = s.useUplinks(settings); err != nil {
		return nil, err
	}
	if s.history, err = links.New(s.Store.Links, s.Store.Judge().Now, log); err != nil {
		return nil, err
	}
	if s.listen, err = net.Listen("tcp", settings.Listen); err != nil {
		return nil, fmt.Errorf("listening for HTTP at %s: %w; or set another listen: in the configuration",
			settings.Listen, plain.Network(err))
	}
	s.Address = "http://" + s.listen.Addr().String()
	if s.tls = settings.TLS; s.tls != nil {
		s.Address = "https://" + s.listen.Addr().String()
		if s.tls.Holder == nil {
			if s.tls.Holder, err = certs.Own(settings.Data, s.tls.Names); err != nil {
				return nil, err
			}
		}
	}
	s.room = room.New(s.Store, s.Store.Gaps, func() config.Room { return s.settings.Load().Room }, log)
	s.remover = s.newRemover()
	s.repairer = s.newRepairer()
	s.backups = newBackups(settings, version, log)
	started := time.Now()
	s.handler = func(stopping <-chan struct{}) http.Handler {
		return api.Handler(api.Service{
			Store:        s.Store,
			Records:      s.Store.Records,
			Gateway:      s.Gateway,
			Central:      s.Central,
			Uplinks:      s.Uplinks,
			LinkStates:   s.linkStates,
			Pace:         s.history.Pace,
			Zone:         cmp.Or(settings.Zone, "UTC"),
			Zones:        s.zonesBy(settings),
			Gate:         s.gate(),
			Version:      version,
			Started:      started,
			Queries:      func() config.Queries { return s.settings.Load().Queries },
			Field:        func() config.Field { return s.settings.Load().Field },
			Reload:       s.reload,
			Certificates: s.certificates,
			Backup:       s.backups.state,
			Space:        s.spaceTroubles,
			RoomDropped:  s.room.Dropped,
			Remover:      s.remover,
			Rename:       s.rename,
			Ledger:       s.ledger,
			Reconcile:    s.reconcileNow,
			Compare:      s.compare,
			Fetched:      s.Store.Fetched,
			File:         func() string { return s.settings.Load().Path },
			Dropped:      s.dropped.Load,
			Console:      web.Console(), Log: log, Stopping: stopping,
		})
	}
	return s, nil
}

// Run serves until ctx ends, then stops in order: no new requests, what was taken in
// is written, the store is closed.
func (s *Service) Run(ctx context.Context) error {
	settings := s.settings.Load()
	event.Started.To(s.log, "version", s.version, "configuration", settings.Path, "sum", settings.Sum, "address", s.Address)
	defer func() {
		event.Stopped.To(s.log, "version", s.version, "configuration", settings.Path, "sum", s.settings.Load().Sum)
	}()
	group, groupCtx := errgroup.WithContext(ctx)
	server := &http.Server{
		Handler:           s.handler(groupCtx.Done()),
		ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout:       2 * time.Minute, // replication gives itself more, write deadlines are the handlers'
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    256 << 10, // the handler refuses less, in the form of all answers
		ErrorLog:          slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
	}
	for _, one := range s.servers(server) {
		group.Go(one.serve)
		group.Go(func() error {
			<-groupCtx.Done()
			stop, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			if err := one.Shutdown(stop); err != nil {
				return one.Close()
			}
			return nil
		})
	}
	group.Go(func() error { return s.book.Run(groupCtx) })
	group.Go(func() error { return supervision.Watch(groupCtx, s.alive, s.log) })
	group.Go(func() error {
		<-groupCtx.Done()
		supervision.Stopping(s.log)
		return nil
	})
	group.Go(func() error { return s.history.Run(groupCtx, s.linkStates) })
	group.Go(func() error { return s.retain(groupCtx) })
	group.Go(func() error { return s.backups.run(groupCtx) })
	group.Go(func() error { return s.watchSpace(groupCtx) })
	group.Go(func() error { return s.room.Run(groupCtx) })
	group.Go(func() error { return s.remover.Run(groupCtx) })
	group.Go(func() error { return s.repairer.Run(groupCtx) })
	group.Go(func() error { return s.tidy(groupCtx) })
	group.Go(func() error { return s.runUplinks(groupCtx) })
	group.Go(func() error { return s.ledger.Run(groupCtx) })
	group.Go(func() error { return s.keepFetched(groupCtx) })
	group.Go(func() error { return s.reconcileNightly(groupCtx) })
	if s.Central != nil {
		group.Go(func() error { return s.Central.Run(groupCtx) })
	}
	if s.Gateway != nil {
		group.Go(func() error { return s.Gateway.Run(groupCtx) })
	} else {
		group.Go(func() error { return central.KeepSealed(groupCtx, s.Store, s.log) })
	}
	err := group.Wait()
	defer s.folder.Release()
	return errors.Join(err, s.book.Close(), s.Store.Close())
}

// newRemover makes what takes out what is removed; at a gateway between two commits.
func (s *Service) newRemover() *removal.Remover {
	if s.Gateway != nil {
		pipe := s.Gateway.Pipe
		return removal.New(s.Store, s.Store.Gaps, s.Store.Removals, pipe.Between, pipe.SealNow, pipe.Remake, s.log)
	}
	return removal.New(s.Store, s.Store.Gaps, s.Store.Removals, func(_ context.Context, do func() error) error { return do() },
		func(ctx context.Context) error { return s.Store.Seal(ctx, engine.Sealing{}) }, nil, s.log)
}

// rename gives series other paths; at a gateway between two commits.
func (s *Service) rename(ctx context.Context, all []records.Rename) error {
	if s.Gateway == nil {
		return s.Store.Rename(all)
	}
	return s.Gateway.Pipe.Between(ctx, func() error {
		if err := s.Store.Rename(all); err != nil {
			return err
		}
		s.Gateway.Pipe.Renamed()
		return nil
	})
}

// newRepairer makes what makes damaged rows again: a gateway from what it has, a central with its gateways' help.
func (s *Service) newRepairer() *repair.Repairer {
	var remake func(context.Context, uint32, series.Tier, int64, int64) error
	var again func(series.Path) bool
	if s.Gateway != nil {
		remake = s.Gateway.Pipe.RemakeTier
	}
	if s.Central != nil {
		again = s.Central.AskAgain
	}
	return repair.New(s.Store, s.Store.Gaps, remake, again, s.Store.VerifySlowly, s.log)
}

// alive returns nil when those who write get on.
func (s *Service) alive(ctx context.Context) error {
	if s.Gateway != nil {
		if err := s.Gateway.Pipe.Alive(ctx); err != nil {
			return err
		}
	}
	if s.Central != nil {
		return s.Central.Alive(ctx)
	}
	return nil
}

// opensWithin is how long a service that starts is waited for at most.
const opensWithin = 10 * time.Second

// Opened is closed once all who may come to a service that runs are let in, or ctx ends.
func (s *Service) Opened(ctx context.Context) <-chan struct{} {
	out := make(chan struct{})
	go func() {
		defer close(out)
		ctx, cancel := context.WithTimeout(ctx, opensWithin)
		defer cancel()
		if s.Gateway != nil {
			s.Gateway.Opened(ctx)
		}
	}()
	return out
}

// Close closes what Open opened, for a service that is not run.
func (s *Service) Close() {
	if s.listen != nil {
		s.listen.Close()
	}
	if s.book != nil {
		s.book.Close()
	}
	if s.Store != nil {
		s.Store.Close()
	}
	s.folder.Release()
}
