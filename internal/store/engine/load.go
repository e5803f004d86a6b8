package engine

import (
	"context"
	"fmt"

	"nexocumula/internal/core/series"
	"nexocumula/internal/event"
	"nexocumula/internal/store/sqlite"
)

// loadCatalogue reads which series there are, and their latest values.
func (e *Engine) loadCatalogue() error {
	broken, err := e.loadDefinitions()
	if err != nil {
		return fmt.Errorf("reading the catalogue: %w", err)
	}
	unread, err := e.loadLatest()
	if err != nil {
		return fmt.Errorf("reading the latest values: %w", err)
	}
	if err := e.file.SetAside(append(broken, unread...)); err != nil {
		return err
	}
	return e.countIDs()
}

func (e *Engine) loadDefinitions() (broken []sqlite.Damaged, err error) {
	rows, err := e.file.Reader().Raw("SELECT id, path, kind, definition, checksum FROM series").Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	read := map[string]series.Definition{}
	var known []*Series
	for rows.Next() {
		var r seriesRow
		if err := rows.Scan(&r.ID, &r.Path, &r.Kind, &r.Definition, &r.Checksum); err != nil {
			return nil, err
		}
		def, err := r.definition(read)
		if err != nil {
			broken = append(broken, sqlite.Damaged{
				ID: uint64(r.ID), Place: "series", Series: r.ID, Raw: fmt.Appendf(nil, "%+v", r),
				Reason: err.Error() + "; its chunks stay, but nothing says what they are of",
			})
			continue
		}
		known = append(known, &Series{ID: r.ID, Definition: def})
	}
	e.alter(func(m *memory) {
		for _, s := range known {
			m.catalogue.put(s)
		}
	})
	return broken, rows.Err()
}

// loadLatest reads the latest values. Those of a damaged row are found again in the chunks.
func (e *Engine) loadLatest() (broken []sqlite.Damaged, err error) {
	var rows []latestRow
	if err := e.file.Reader().Find(&rows).Error; err != nil {
		return nil, err
	}
	now := e.judge.Now()
	if before := e.judge.Newest(); before.After(now) {
		now = before
	}
	e.alter(func(m *memory) {
		for _, r := range rows {
			err := r.each(func(s Series) {
				if known := m.catalogue.get(s.ID); known != nil {
					known.latestAs(&s)
					known.SummarisedTo = known.summarisedAtMost(now.UnixNano())
				}
			})
			if err == nil {
				continue
			}
			broken = append(broken, sqlite.Damaged{
				ID:     uint64(r.ID),
				Place:  "latest",
				Raw:    r.Payload,
				Reason: err.Error(),
			})
			for id := r.ID * latestGroup; id < (r.ID+1)*latestGroup; id++ {
				if m.catalogue.get(id) != nil {
					m.unsure = append(m.unsure, id)
				}
			}
		}
	})
	return broken, nil
}

// recallUnsure finds again what the damaged rows of latest values said.
func (e *Engine) recallUnsure(ctx context.Context) error {
	var unsure []uint32
	e.alter(func(m *memory) { unsure, m.unsure = m.unsure, nil })
	for _, id := range unsure {
		if err := e.recall(ctx, id); err != nil {
			return err
		}
	}
	rows, err := e.file.SetAsideOf("latest")
	if err != nil || len(rows) == 0 {
		return err
	}
	ids := make([]uint64, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	err = e.file.Write(func(w sqlite.Writer) error { return sqlite.Mended(w.DB(), ids) })
	if err == nil {
		e.file.CountMended(len(ids))
		event.LatestFound.To(e.log, "series", len(unsure))
	}
	return err
}

// countIDs finds the highest ids there are, so that none is used again: rows of a series
// whose definition is lost must not become another's.
func (e *Engine) countIDs() error {
	return e.file.Write(func(w sqlite.Writer) error {
		counts := e.numbers(w)
		for _, table := range []struct {
			model  any
			column string
		}{{&seriesRow{}, "id"}, {&sqlite.Chunk{}, "series"}, {&sqlite.Patch{}, "series"}, {&sqlite.Damaged{}, "series"}} {
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
