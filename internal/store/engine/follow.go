package engine

import (
	"slices"
	"strings"
	"sync"

	"nexocumula/internal/core/series"
)

// Follower learns what was appended, after it can be read. What it has not asked for yet is
// gathered, so a slow one holds up nobody.
type Follower struct {
	engine *Engine
	most   int // rows that are gathered

	mu      sync.Mutex // taken after the memory's; nothing else is locked under it
	rows    int
	changed map[uint32]*Changed
}

// Changed is a series that got rows, or ended.
type Changed struct {
	Series
	Entries []Entry // what was appended, oldest first
	Missed  int     // rows that were appended and are not here, as too many had been gathered: read them from the store
}

// Follow begins to follow; Stop ends it. At most so many rows are gathered; a follower that asks for
// none learns only which series changed.
func (e *Engine) Follow(mostRows int) *Follower {
	f := &Follower{engine: e, most: mostRows, changed: map[uint32]*Changed{}}
	e.alter(func(m *memory) { m.followers[f] = struct{}{} })
	return f
}

// Stop ends the following.
func (f *Follower) Stop() {
	f.engine.alter(func(m *memory) { delete(m.followers, f) })
}

// notify hands on what was just taken in.
func (m *memory) notify(entries []Entry) {
	for f := range m.followers {
		f.gather(entries)
	}
}

func (f *Follower) gather(entries []Entry) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, e := range entries {
		c := f.changed[e.Series]
		if c == nil {
			c = &Changed{}
			f.changed[e.Series] = c
		}
		n := e.Rows.Len()
		switch {
		case n == 0:
		case f.rows+n > f.most:
			c.Missed += n
		default:
			f.rows += n
			e.Rows = e.Rows.Clone() // whoever appended keeps its rows
			c.Entries = append(c.Entries, e)
		}
	}
}

// Changed returns what changed since the last call, by path.
func (f *Follower) Changed() []Changed {
	f.mu.Lock()
	gathered := f.changed
	f.changed, f.rows = make(map[uint32]*Changed, len(gathered)), 0
	f.mu.Unlock()
	out := make([]Changed, 0, len(gathered))
	f.engine.look(func(m *memory) {
		for id, c := range gathered {
			if known := m.catalogue.get(id); known != nil {
				c.Series = *known
				out = append(out, *c)
			}
		}
	})
	slices.SortFunc(out, func(a, b Changed) int { return strings.Compare(string(a.Path), string(b.Path)) })
	return out
}

// End notes that who measures some series said that it goes: their latest values do not speak for them from
// that time on, until newer ones come.
func (e *Engine) End(paths []series.Path, at int64) {
	e.alter(func(m *memory) {
		var ended []Entry
		for _, path := range paths {
			if known := m.catalogue.byPath(path); known != nil && known.LastTime <= at {
				known.Ended = at
				ended = append(ended, Entry{Series: known.ID})
			}
		}
		m.notify(ended)
	})
}
