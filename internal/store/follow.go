package store

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"nexocumula/internal/core/series"
)

// Follower learns which series got rows, after these can be read. What it has not asked
// for yet is gathered, so a slow one holds up nobody.
type Follower struct {
	store   *Store
	mu      sync.Mutex
	changed map[uint32]struct{}
}

// Follow begins to follow; Stop ends it.
func (s *Store) Follow() *Follower {
	f := &Follower{store: s, changed: map[uint32]struct{}{}}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.followers[f] = struct{}{}
	return f
}

// Stop ends the following.
func (f *Follower) Stop() {
	f.store.mu.Lock()
	defer f.store.mu.Unlock()
	delete(f.store.followers, f)
}

// tell is called with what was just taken in.
func (f *Follower) tell(entries []Entry) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, e := range entries {
		f.changed[e.Series] = struct{}{}
	}
}

// Changed is the series that got rows, or ended, since the last call, by path.
func (f *Follower) Changed() []Series {
	f.mu.Lock()
	ids := slices.Collect(maps.Keys(f.changed))
	clear(f.changed)
	f.mu.Unlock()
	out := make([]Series, 0, len(ids))
	f.store.mu.RLock()
	for _, id := range ids {
		if known := f.store.catalogue.get(id); known != nil {
			out = append(out, *known)
		}
	}
	f.store.mu.RUnlock()
	slices.SortFunc(out, func(a, b Series) int { return strings.Compare(string(a.Path), string(b.Path)) })
	return out
}

// End notes that who measures some series said that it goes: their latest values do not speak for them from that time on,
// until newer ones come.
func (s *Store) End(paths []series.Path, at int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var ended []Entry
	for _, path := range paths {
		if known := s.catalogue.byPath(path); known != nil && known.LastTime <= at {
			known.Ended = at
			ended = append(ended, Entry{Series: known.ID})
		}
	}
	for f := range s.followers {
		f.tell(ended)
	}
}
