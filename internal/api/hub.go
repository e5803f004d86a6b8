package api

import (
	"sync"
	"time"

	"nexocumula/internal/store/engine"
)

// Follower is a store that can be followed.
type Follower interface {
	Follow(mostRows int) *engine.Follower
}

// hub hands what changed to all live streams: the store is asked once a second, however
// many watch, and what nobody watches costs nothing.
type hub struct {
	store Follower
	now   func() time.Time

	mu       sync.Mutex
	watchers map[chan []*news]struct{}
	follower *engine.Follower // while anybody watches
	end      chan struct{}
}

const streamEvery = time.Second

func newHub(st Follower, now func() time.Time) *hub {
	return &hub{store: st, now: now, watchers: map[chan []*news]struct{}{}}
}

// watch gives what changes from now on, once a second, by path; what is not taken in time
// comes together with the next. leave ends it.
func (h *hub) watch() (changes chan []*news, leave func()) {
	changes = make(chan []*news, 1)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.watchers[changes] = struct{}{}
	if h.follower == nil {
		h.follower, h.end = h.store.Follow(0), make(chan struct{})
		go h.run(h.follower, h.end)
	}
	return changes, func() { h.leave(changes) }
}

func (h *hub) leave(changes chan []*news) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.watchers, changes)
	if len(h.watchers) == 0 && h.follower != nil {
		h.follower.Stop()
		close(h.end)
		h.follower = nil
	}
}

func (h *hub) run(from *engine.Follower, end chan struct{}) {
	tick := time.NewTicker(streamEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if changed := from.Changed(); len(changed) > 0 {
				h.tell([]*news{{at: h.now(), changed: changed}})
			} else {
				h.tell(nil)
			}
		case <-end:
			return
		}
	}
}

func (h *hub) tell(latest []*news) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for w := range h.watchers {
		all := latest
		select {
		case missed := <-w:
			if all = append(missed[:len(missed):len(missed)], latest...); valuesIn(all) > mostMissed {
				close(w) // it does not read: let it come again and get everything anew
				delete(h.watchers, w)
				continue
			}
		default:
		}
		w <- all
	}
}

func valuesIn(all []*news) (n int) {
	for _, one := range all {
		n += len(one.changed)
	}
	return n
}

// mostMissed bounds what is kept for a stream that is not read.
const mostMissed = 200_000
