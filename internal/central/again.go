package central

import (
	"slices"
	"strings"

	"nexocumula/internal/core/series"
)

// AskAgain has the gateways that may send a series send everything again with their next batch, as something of it was
// lost here, and reports whether there is any.
func (r *Receiver) AskAgain(path series.Path) (asked bool) {
	site, _, _ := strings.Cut(string(path), "/")
	enrolled := map[string][]string{}
	for _, g := range r.enrolled.Gateways() {
		enrolled[g.Name] = g.Sites
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, l := range r.links {
		if slices.Contains(l.sites, site) || slices.Contains(enrolled[l.gateway], site) {
			l.again.Store(true)
			asked = true
		}
	}
	return asked
}
