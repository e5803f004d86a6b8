package engine

import (
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// neighbours are the last chunks of the series and tiers that a seal comes to next, read for many at once:
// most rows that are sealed come after all others.
type neighbours struct {
	of   map[seriesTier][]sqlite.Chunk // the newest first, without payloads
	read map[uint64]*sqlite.Chunk      // those that will be replaced, with all payloads
}

// mostNeighbours of a series and tier are read ahead; a seal rarely looks at more.
const mostNeighbours = 7

// lookAhead reads the neighbours of places, the rows of which begin at first and are count.
func (r *renewal) lookAhead(places []seriesTier, rows func(at seriesTier) (first int64, count int)) error {
	wanted := make([]sqlite.SeriesTier, len(places))
	for i, at := range places {
		wanted[i] = sqlite.SeriesTier{Series: at.series, Tier: int64(at.tier)}
	}
	chunks, err := sqlite.LastChunks(r.db, wanted, mostNeighbours)
	if err != nil {
		return err
	}
	r.near = neighbours{of: make(map[seriesTier][]sqlite.Chunk, len(places)), read: map[uint64]*sqlite.Chunk{}}
	for _, at := range places {
		r.near.of[at] = nil // known to have none
	}
	for _, c := range chunks {
		at := seriesTier{c.Series, series.Tier(c.Tier)}
		r.near.of[at] = append(r.near.of[at], c)
	}
	var ids []uint64
	for _, at := range places {
		first, count := rows(at)
		if last := r.near.of[at]; len(last) > 0 && last[0].LastAt < first {
			taken, _ := takenAlong(last, first, count)
			for _, c := range last[:taken] {
				ids = append(ids, c.ID)
			}
		}
	}
	whole, err := sqlite.ChunksOf(r.db, ids, sqlite.AllParts)
	for i := range whole {
		r.near.read[whole[i].ID] = &whole[i]
	}
	return err
}

const (
	alike     = 3 // small chunks of about a size are written again together, with the rows after them
	alikeMost = 2 // those with at most so many times as many rows as come after them are
)

// takenAlong returns how many of the chunks before count rows, the newest first, are written again with
// the rows; more says whether it could be more, with others before them. So chunks become about four times as
// large when they are written again, and a series has few small ones.
func takenAlong(before []sqlite.Chunk, first int64, count int) (taken int, more bool) {
	sum := 0
	for i, c := range before {
		if c.Count >= fullChunk || c.Count > alikeMost*count || nextMonth(c.FirstAt) != nextMonth(first) {
			return taken, false
		}
		if sum += c.Count; i+1-taken == alike {
			taken, count, sum = i+1, count+sum, 0
		}
	}
	return taken, true
}

// before returns the chunks that begin before t, the newest first, as far as they were read; all says
// whether there are no others.
func (n *neighbours) before(at seriesTier, t int64) (chunks []sqlite.Chunk, all bool) {
	chunks, known := n.of[at]
	all = known && len(chunks) < mostNeighbours
	for len(chunks) > 0 && chunks[0].FirstAt >= t {
		chunks = chunks[1:]
	}
	return chunks, all
}

// changed forgets the chunks of a series and tier.
func (n *neighbours) changed(at seriesTier) { delete(n.of, at) }
