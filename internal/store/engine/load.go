package engine

import (
	"fmt"

	"nexocumula/internal/store/sqlite"
)

// loadCatalogue reads which series there are.
func (e *Engine) loadCatalogue() error {
	var rows []seriesRow
	if err := e.file.Reader().Find(&rows).Error; err != nil {
		return fmt.Errorf("reading the catalogue: %w", err)
	}
	var broken []sqlite.Damaged
	latest := e.judge.Now()
	if before := e.judge.Newest(); before.After(latest) {
		latest = before
	}
	e.alter(func(m *memory) {
		for _, r := range rows {
			known, err := r.series()
			if err != nil {
				broken = append(broken, sqlite.Damaged{ID: uint64(r.ID), Place: "series", Series: r.ID, Raw: fmt.Appendf(nil,
					"%+v", r),
					Reason: err.Error() + "; its chunks stay, but nothing says what they are of"})
				continue
			}
			known.SummarisedTo = known.summarisedAtMost(latest.UnixNano())
			m.catalogue.put(known)
		}
	})
	if err := e.file.SetAside(broken); err != nil {
		return err
	}
	return e.countIDs()
}

// countIDs finds the highest ids there are, so that none is used again: rows of a series
// whose definition is lost must not become another's.
func (e *Engine) countIDs() error {
	return e.file.Write(func(w sqlite.Writer) error {
		counts := e.numbers(w)
		for _, table := range []struct {
			model  any
			column string
		}{{&seriesRow{}, "id"}, {&sqlite.Chunk{}, "series"}, {&sqlite.Damaged{}, "series"}} {
			var highest uint32
			if err := w.DB().Model(table.model).Select("coalesce(max(" + table.column + "), 0)").Scan(&highest).Error; err != nil {
				return fmt.Errorf("reading the catalogue: %w", err)
			}
			counts.lastSeries = max(counts.lastSeries, highest)
		}
		if err := w.DB().Model(&sqlite.Chunk{}).Select("coalesce(max(id), 0)").Scan(&counts.nextChunk).Error; err != nil {
			return fmt.Errorf("reading the catalogue: %w", err)
		}
		return nil
	})
}
