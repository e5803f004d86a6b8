package api

import (
	"net/http"
	"sync"

	"golang.org/x/time/rate"

	"nexocumula/internal/access"
)

// guard bounds how often somebody may ask, and keeps pages of other sites from asking in
// somebody's name.
type guard struct {
	cross *http.CrossOriginProtection

	mu     *sync.Mutex
	rooms  map[string]*rate.Limiter
	before map[string]*rate.Limiter // those that were used before the last time that rooms was full
}

// Rates: of an account or token at an address, and of those who have not said who they are.
const (
	knownRate, knownBurst = 200, 2000
	otherRate, otherBurst = 20, 100
	mostRooms             = 10_000
)

func newGuard() guard {
	return guard{
		http.NewCrossOriginProtection(), new(sync.Mutex), map[string]*rate.Limiter{}, map[string]*rate.Limiter{},
	}
}

// room reports whether a caller may ask now. Who logs in has a room of his own, so that what others at his address
// look at does not keep him out.
func (g *guard) room(who access.Caller, logsIn bool) bool {
	place := who.Kind + " " + who.Name + " " + who.From
	if logsIn {
		place += " login"
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	l := g.rooms[place]
	if l == nil {
		if l = g.before[place]; l == nil {
			l = rate.NewLimiter(otherRate, otherBurst)
			if who.Kind != "anyone" {
				l = rate.NewLimiter(knownRate, knownBurst)
			}
		}
		if len(g.rooms) >= mostRooms {
			g.rooms, g.before = map[string]*rate.Limiter{}, g.rooms
		}
		g.rooms[place] = l
	}
	return l.Allow()
}
