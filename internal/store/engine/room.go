package engine

import (
	"context"
	"fmt"
	"math"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Way says what may be dropped to make room.
type Way struct {
	Tier   series.Tier
	Before int64
	Unsent bool // also what uplinks still have to send
}

// Oldest returns the time of the oldest row in chunks of a tier, of all series.
func (e *Engine) Oldest(tier series.Tier) (at int64, ok bool, err error) {
	var first *int64
	err = e.file.Reader().Raw("SELECT min(first_at) FROM chunks INDEXED BY chunks_place WHERE tier = ?", int64(tier)).
		Scan(&first).Error // the index is a small part of the table
	if err != nil || first == nil {
		return 0, false, err
	}
	return *first, true, nil
}

// MakeRoom removes whole chunks of a series as a way allows, and with each transaction what also returns for the time
// that goes. Readings stay while a window of them has to be summarised, or sent.
func (e *Engine) MakeRoom(ctx context.Context, id uint32, way Way, also func(from, to int64) sqlite.Change) (rows int, err error) {
	known, ok := e.Get(id)
	if !ok {
		return 0, nil
	}
	until := e.spare(&known, way)
	for ctx.Err() == nil {
		var old []sqlite.Chunk
		err := e.file.Reader().Select("id", "row_count", "first_at", "last_at").
			Where("series = ? AND tier = ? AND first_at < ? AND last_at < ?", id, int64(way.Tier), until, until).
			Order("first_at").Limit(dropAtOnce).Find(&old).Error
		if err != nil || len(old) == 0 {
			return rows, err
		}
		from, to := old[0].FirstAt, old[len(old)-1].LastAt+max(1, int64(way.Tier))
		gone, err := e.dropChunks(old, also(from, to))
		if err != nil {
			return rows, fmt.Errorf("dropping rows of series %d: %w", id, err)
		}
		rows += gone
	}
	return rows, ctx.Err()
}

// spare returns up to when rows of a series can be spared.
func (e *Engine) spare(s *Series, way Way) int64 {
	until := way.Before
	tiers := s.Tiers.All()
	if way.Tier == series.Readings {
		if len(tiers) == 0 {
			return math.MinInt64
		}
		until = min(until, s.SummarisedTo)
		if !s.Late.none() {
			until = min(until, s.Late.From)
		}
		if way.Unsent {
			return until // what is sent is their summaries
		}
	} else {
		tiers = []series.Tier{way.Tier}
	}
	var giveUp time.Time
	if way.Unsent {
		giveUp = time.Unix(0, until)
	}
	for _, tier := range tiers {
		until = min(until, e.droppable(marks.Of{Series: s.ID, Tier: tier}, time.Unix(0, until), giveUp))
	}
	return until
}

// Used says how large a store is.
type Used struct {
	Store    uint64 // bytes of its file, without what is free within it, and the journal, which the next seal empties
	Readings uint64 // about, of readings; 0 unless that was asked for
	Free     uint64 // on the disk and within the files
	Disk     uint64 // that the disk has; 0 when that is not known
}

// Used returns how large the store is.
func (e *Engine) Used(readings bool) (out Used, err error) {
	var journal uint64
	e.look(func(m *memory) { journal = uint64(max(0, m.journal.bytes)) })
	used := e.file.Bytes()
	free, disk := e.file.Disk()
	within, err := sqlite.FreeBytes(e.file.Reader())
	if err != nil {
		return out, err
	}
	if readings {
		out.Readings, err = e.bytesOf(series.Readings)
	}
	out.Store, out.Free, out.Disk = used-min(used, within+journal), free+within, disk
	return out, err
}

// sampled is how many chunks say how large one is.
const sampled = 200

// bytesOf returns about how many bytes the chunks of a tier have: their number is exact, their size a sample's.
func (e *Engine) bytesOf(tier series.Tier) (uint64, error) {
	var count, size float64
	db := e.file.Reader()
	if err := db.Raw("SELECT count(*) FROM chunks INDEXED BY chunks_place WHERE tier = ?", int64(tier)).Scan(&count).Error; err != nil {
		return 0, err
	}
	if count == 0 {
		return 0, nil
	}
	err := db.Raw(`SELECT avg(coalesce(length(whole), 0) + coalesce(length(step0), 0) + coalesce(length(step1), 0) + coalesce(length(part0), 0) + coalesce(length(part1), 0) + coalesce(length(part2), 0) + coalesce(length(part3), 0))
		FROM (SELECT * FROM chunks WHERE tier = ? ORDER BY id DESC LIMIT ?)`, int64(tier), sampled).Scan(&size).Error
	return uint64(count * size), err
}

// Hold makes incoming batches fail, with a reason, until there is none any more. What is made of what is here goes on,
// as it may lead to something that can be spared.
func (e *Engine) Hold(why string) { e.alter(func(m *memory) { m.held = why }) }

// Held says why nothing is taken in; empty: it is.
func (e *Engine) Held() (why string) {
	e.look(func(m *memory) { why = m.held })
	return why
}

// deleteChunks removes rows of chunks, and makes the changes that belong to it.
func deleteChunks(ids []uint64, also []sqlite.Change) sqlite.Change {
	return func(tx *gorm.DB) error {
		if err := tx.Where("id IN ?", ids).Delete(&sqlite.Chunk{}).Error; err != nil {
			return err
		}
		for _, change := range also {
			if err := change(tx); err != nil {
				return err
			}
		}
		return nil
	}
}

// Readings returns from when on there are readings of a series.
func (e *Engine) Readings(id uint32) (from int64, ok bool, err error) {
	at := seriesTier{id, series.Readings}
	if rows := e.inTray(at, math.MinInt64, math.MaxInt64); rows.Len() > 0 {
		from, ok = rows.Times[0], true
	}
	c, err := sqlite.ChunkFrom(e.file.Reader(), id, int64(series.Readings), math.MinInt64)
	if err == nil && c.ID != 0 && (!ok || c.FirstAt < from) {
		from, ok = c.FirstAt, true
	}
	return from, ok, err
}
