package central

import (
	"slices"
	"time"

	"nexocumula/internal/wire"
)

// zonesOf returns the time zones that a gateway reports, as far as the sites are its own and the
// zones are known here. Of others nothing is shown: their times are those of this service.
func zonesOf(said map[string]string, sites []string) map[string]string {
	out := map[string]string{}
	for site, zone := range said {
		if _, err := time.LoadLocation(zone); err != nil || zone == "" || zone == "Local" ||
			!slices.Contains(sites, site) {
			continue
		}
		if out[site] = zone; len(out) == wire.MaxZones {
			break
		}
	}
	return out
}

// Zones returns the time zone of each gateway's sites, as last reported.
func (r *Receiver) Zones() map[string]string {
	out := map[string]string{}
	for _, l := range r.Links() {
		for site, zone := range l.Status.Zones {
			out[site] = zone
		}
	}
	return out
}
