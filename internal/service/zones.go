package service

import (
	"maps"
	"slices"

	"nexocumula/internal/config"
	"nexocumula/internal/wire"
)

// zonesBy finds the zones whose clocks hang at the sites known here, as far as anybody said: the
// settings, or the gateways that send their series.
func (s *Service) zonesBy(settings config.Settings) func() map[string]string {
	return func() map[string]string {
		out := map[string]string{}
		if s.Central != nil {
			out = s.Central.Zones()
		}
		if settings.Gateway != nil && settings.Zone != "" {
			out[settings.Gateway.Site] = settings.Zone
		}
		sites := slices.Sorted(maps.Keys(out))
		for _, site := range sites[min(len(sites), wire.MaxZones):] {
			delete(out, site)
		}
		return out
	}
}
