package engine

import (
	"context"
	"sync"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/series"
)

// memory is what the engine knows without reading its file. It is reached through look and
// alter only, and it knows neither the engine nor the file: whoever holds its lock can take
// no other from here.
type memory struct {
	catalogue  catalogue
	tray       map[seriesTier]column.Block // the newest rows
	late       map[uint32]struct{}         // series of which a stretch is late
	held       string                      // why nothing is taken in; empty: it is
	unwritten  []*Series                   // that the next Append writes, in the order of their ids
	orphans    map[series.Path]orphan      // series whose definition was set aside
	unsure     []uint32                    // series whose latest value has to be found again
	trayRows   int
	trayWeight int
	leaving    map[seriesTier]column.Block // older rows, on their way into chunks
	sealedTo   map[seriesTier]int64        // at least the newest time in chunks, where it was asked for
	patched    map[seriesTier]extent       // the time of rows in patches, or more
	renewals   uint64                      // how often chunks were written
	journal    journalCounts
	followers  map[*Follower]struct{}
	closing    bool
}

// journalCounts is what stands in the journal.
type journalCounts struct {
	last     uint64   // highest row id whose rows are in the tray, or were
	bytes    int      // since the last seal
	sketches []Sketch // starts of sketches written since the last seal, as the journal has them
}

// numbers are what the engine counts while it has the right to write.
type numbers struct {
	lastSeries  uint32 // the highest ids there ever were
	nextChunk   uint64
	nextPatch   uint64
	journalNext uint64 // highest id of a journal row that was tried
	journalMost int    // bytes of the journal that there ever were at a seal
}

// guarded is the memory behind its lock.
type guarded struct {
	mu     sync.RWMutex
	memory memory
	ended  chan struct{} // closed and replaced when a seal has ended, or the engine closes
}

func (g *guarded) look(do func(m *memory)) {
	g.mu.RLock()
	defer g.mu.RUnlock()
	do(&g.memory)
}

func (g *guarded) alter(do func(m *memory)) {
	g.mu.Lock()
	defer g.mu.Unlock()
	do(&g.memory)
}

// alterAndWake is alter that wakes those who await.
func (g *guarded) alterAndWake(do func(m *memory)) {
	g.mu.Lock()
	defer g.mu.Unlock()
	do(&g.memory)
	close(g.ended)
	g.ended = make(chan struct{})
}

// await waits until the memory is ready, or ctx ends.
func (g *guarded) await(ctx context.Context, ready func(m *memory) bool) error {
	for {
		g.mu.RLock()
		done, ended := ready(&g.memory), g.ended
		g.mu.RUnlock()
		if done {
			return nil
		}
		select {
		case <-ended:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}
