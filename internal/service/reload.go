package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"nexocumula/internal/config"
	"nexocumula/internal/event"
	"nexocumula/internal/kinds"
)

// Reloaded is the result of reading the configuration again.
type Reloaded struct {
	Applied []string // parts and sources that are as the file has them now
	Restart []string // parts that changed in the file, and count after a restart only
}

// ErrNoFile says that the settings came from no file.
var ErrNoFile = errors.New("this service was not started from a file")

// Reload reads the configuration again and takes over what changed. Nothing that arrives is
// lost, and windows stay open; only sources that changed are restarted. A file that is not
// good is refused as a whole, and everything stays as it is.
func (s *Service) Reload(ctx context.Context) (out Reloaded, err error) {
	s.reloading.Lock()
	defer s.reloading.Unlock()
	before := *s.settings.Load()
	if before.Path == "" {
		return out, ErrNoFile
	}
	fresh, err := config.Load(before.Path, kinds.All)
	if err != nil {
		return out, err
	}
	out.Applied, out.Restart = fresh.Changed(before)
	// What cannot change now stays what it was, so that it is told again the next time.
	now := before
	now.Sum = fresh.Sum
	now.Keep, now.Queries, now.Field, now.Prints = fresh.Keep, fresh.Queries, fresh.Field, map[string]string{}
	for key, print := range fresh.Prints {
		now.Prints[key] = print
	}
	for _, key := range out.Restart {
		now.Prints[key] = before.Prints[key]
	}
	if before.Gateway == nil || fresh.Gateway == nil || fresh.Gateway.Site != before.Gateway.Site {
		// Nothing of another site's gateway can count here.
		of := func(key string) bool { return strings.HasPrefix(key, "gateway.") }
		for _, key := range out.Applied {
			if of(key) {
				out.Restart = append(out.Restart, key)
				now.Prints[key] = before.Prints[key]
			}
		}
		out.Applied = slices.DeleteFunc(out.Applied, of)
	} else {
		g := *before.Gateway
		g.Rules, g.Sources, g.Pace, g.Keep = fresh.Gateway.Rules, fresh.Gateway.Sources, fresh.Gateway.Pace, fresh.Keep
		if err := s.Gateway.Pipe.UseCommitDelay(ctx, g.Pace); err != nil {
			return out, fmt.Errorf("taking over the pace: %w", err)
		}
		for _, name := range s.Gateway.Use(g) {
			out.Applied = append(out.Applied, "source "+name)
		}
		now.Gateway = &g
	}
	changed, err := s.reloadUplinks(&now, fresh, before)
	out.Applied = append(out.Applied, changed...)
	if err != nil {
		return out, err
	}
	s.settings.Store(&now)
	event.Reloaded.To(s.log, "applied", out.Applied, "restart", out.Restart)
	return out, nil
}

// reloadUplinks takes the uplinks over of the parts that this service still is.
func (s *Service) reloadUplinks(now *config.Settings, fresh, before config.Settings) ([]string, error) {
	if now.Gateway != nil && fresh.Gateway != nil && fresh.Gateway.Site == now.Gateway.Site {
		now.Gateway.Uplinks = fresh.Gateway.Uplinks // it is a copy
	}
	if before.Central != nil && fresh.Central != nil && fresh.Central.Name == before.Central.Name {
		c := *before.Central
		c.Uplinks = fresh.Central.Uplinks
		now.Central = &c
	}
	changed, err := s.useUplinks(*now)
	if err != nil {
		return changed, fmt.Errorf("taking over the uplinks: %w", err)
	}
	return changed, nil
}

// reload is Reload for the HTTP interface.
func (s *Service) reload(ctx context.Context) (applied, restart []string, err error) {
	out, err := s.Reload(ctx)
	return out.Applied, out.Restart, err
}
