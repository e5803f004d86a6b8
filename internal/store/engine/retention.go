package engine

import (
	"context"
	"fmt"
	"time"

	"nexocumula/internal/core/marks"
	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// dropAtOnce is how many chunks one transaction drops.
const dropAtOnce = 100

// Drop removes the chunks of a series and tier that end before a time, whole ones
// only and a few at a time, so that nobody waits for it. It says how much went. What a
// companion still needs stays, unless it is from before giveUp.
func (e *Engine) Drop(ctx context.Context, id uint32, tier series.Tier, before time.Time, giveUp time.Time) (rows int, err error) {
	until := e.droppable(marks.Of{Series: id, Tier: tier}, before, giveUp)
	for ctx.Err() == nil {
		var old []sqlite.Chunk
		err := e.file.Reader().Select("id", "row_count").Where("series = ? AND tier = ? AND first_at < ? AND last_at < ?",
			id, int64(tier), until, until).
			Order("first_at").Limit(dropAtOnce).Find(&old).Error
		if err != nil || len(old) == 0 {
			return rows, err
		}
		gone, err := e.dropChunks(old)
		if err != nil {
			return rows, fmt.Errorf("dropping old rows of series %d: %w", id, err)
		}
		rows += gone
	}
	return rows, ctx.Err()
}

// droppable returns how far rows may be dropped for the companions' sake.
func (e *Engine) droppable(of marks.Of, before, giveUp time.Time) int64 {
	until := before.UnixNano()
	for _, c := range e.companions {
		until = min(until, c.Droppable(of, before, giveUp))
	}
	return until
}

func (e *Engine) dropChunks(old []sqlite.Chunk) (rows int, err error) {
	// A seal may be making a new chunk of one of these, and must not bring it back half:
	// whoever changes chunks holds sealing.
	e.sealing.Lock()
	defer e.sealing.Unlock()
	ids := make([]uint64, len(old))
	for i, c := range old {
		ids[i] = c.ID
		rows += c.Count
	}
	return rows, e.file.Write(func(w sqlite.Writer) error {
		return w.DB().Where("id IN ?", ids).Delete(&sqlite.Chunk{}).Error
	})
}

// DropSketches removes a series' sketches of windows that begin before a time, a day's
// worth or so at once.
func (e *Engine) DropSketches(ctx context.Context, series uint32, before, giveUp time.Time) error {
	until := e.droppable(marks.Of{Kind: marks.Sketches, Series: series}, before, giveUp)
	for ctx.Err() == nil {
		gone, err := e.dropSketches(series, until)
		if err != nil || gone == 0 {
			return err
		}
	}
	return ctx.Err()
}

func (e *Engine) dropSketches(series uint32, before int64) (gone int64, err error) {
	err = e.file.Write(func(w sqlite.Writer) error {
		done := w.DB().Exec("DELETE FROM sketches WHERE series = ? AND start IN (SELECT start FROM sketches WHERE series = ? AND start < ? LIMIT ?)",
			series, series, before, dropAtOnce)
		gone = done.RowsAffected
		return done.Error
	})
	return gone, err
}
