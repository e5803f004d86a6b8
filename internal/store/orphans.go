package store

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// orphan is a series whose row of the catalogue was set aside while its chunks stayed.
type orphan struct {
	record uint64 // id in the table of damaged rows
	id     uint32 // its chunks carry
	kind   series.Kind
}

var orphanRow = regexp.MustCompile(`^\{ID:(\d+) Path:(\S+) Kind:(\S+) `)

// loadOrphans reads which series were set aside. What their row says besides id, path and kind does
// not matter: whoever defines the series again says it.
func (s *Store) loadOrphans() error {
	var rows []damagedRow
	if err := s.db.Where("place = ?", "series").Order("id").Find(&rows).Error; err != nil {
		return fmt.Errorf("reading which series were set aside: %w", err)
	}
	s.orphans = map[series.Path]orphan{}
	for _, r := range rows {
		m := orphanRow.FindSubmatch(r.Raw)
		if m == nil {
			continue
		}
		id, err := strconv.ParseUint(string(m[1]), 10, 32)
		if err != nil || uint32(id) != r.Series {
			continue
		}
		s.orphans[series.Path(m[2])] = orphan{r.ID, r.Series, series.Kind(m[3])}
	}
	return nil
}

// orphanOf returns the orphan that a definition brings back. Its id is free: ids are never used again.
func (s *Store) orphanOf(path series.Path, kind string) (orphan, bool) {
	o, ok := s.orphans[path]
	return o, ok && string(o.kind) == kind && s.catalogue.get(o.id) == nil
}

// comeBack ends the setting aside of series that are in the catalogue again, in the transaction that puts
// them there.
func comeBack(tx *gorm.DB, back []orphan) error {
	for _, o := range back {
		if err := tx.Delete(&damagedRow{}, o.record).Error; err != nil {
			return fmt.Errorf("taking a series back into the catalogue: %w", err)
		}
	}
	return nil
}

// recall finds the first and the latest row of a series that came back, which its row of the catalogue said.
func (s *Store) recall(id uint32) error {
	known, _ := s.Get(id)
	var first struct {
		At        int64
		Collected bool
	}
	err := s.reader.Raw("SELECT coalesce(min(first_at), 0) AS at, coalesce(min(tier), 1) = 0 AS collected FROM chunks WHERE series = ?", id).Scan(&first).Error
	if err != nil {
		return fmt.Errorf("reading when %s began: %w", known.Path, err)
	}
	for _, tier := range append([]rollup.Tier{rollup.Readings}, rollup.TiersOf(&known.Definition)...) {
		at, value, ok, err := s.LastBefore(id, tier, math.MaxInt64)
		if err != nil {
			return fmt.Errorf("reading the latest value of %s: %w", known.Path, err)
		}
		if ok && at >= known.LastTime {
			known.LastTime, known.LastValue = at, value
		}
	}
	s.write.Lock()
	defer s.write.Unlock()
	s.mu.Lock()
	now := s.catalogue.get(id)
	now.Collected = now.Collected || first.Collected
	if first.At != 0 && (now.FirstSeen == 0 || first.At < now.FirstSeen) {
		now.FirstSeen = first.At
	}
	if known.LastTime > now.LastTime {
		now.LastTime, now.LastValue = known.LastTime, known.LastValue
	}
	if now.Thinning != "" {
		now.ThinnedTo = max(now.ThinnedTo, now.LastTime+1)
	}
	now.SummarisedTo = max(now.SummarisedTo, now.summarisedAtMost(s.judge.Newest().UnixNano()))
	row := rowOf(*now)
	s.mu.Unlock()
	return updateSeries(s.db, row)
}

// reattach gives the rows of orphans whose series was meanwhile defined with a new id to that series, and
// brings back their place in the health report. Where both have a row of the same time, the new one stays.
func (s *Store) reattach() error {
	for path, o := range maps.Clone(s.orphans) {
		known, ok := s.Find(path)
		if !ok || known.Kind != o.kind || known.ID == o.id {
			continue
		}
		if err := s.takeOver(o.id, known); err != nil {
			return fmt.Errorf("giving the earlier rows of %s back to it: %w", path, err)
		}
		err := s.db.Transaction(func(tx *gorm.DB) error {
			if err := tx.Where("series = ?", o.id).Delete(&chunkRow{}).Error; err != nil {
				return err
			}
			return comeBack(tx, []orphan{o})
		})
		if err != nil {
			return fmt.Errorf("giving the earlier rows of %s back to it: %w", path, err)
		}
		s.damaged--
		delete(s.orphans, path)
		s.log.Info("rows of a series whose definition had been damaged are part of it again", "series", path)
	}
	return nil
}

// takeOver appends the rows of the id from to a series, chunk by chunk.
func (s *Store) takeOver(from uint32, to Series) error {
	var chunks []chunkRow
	if err := s.db.Where("series = ?", from).Order("tier, first_at").Find(&chunks).Error; err != nil {
		return err
	}
	for _, c := range chunks {
		tier := rollup.Tier(c.Tier)
		rows, err := c.rows(chunkParts(tier, rollup.NeedAll), rollup.NeedAll, nil)
		if err = cmp.Or(c.check(), err); err != nil {
			if err := s.setAside([]damagedRow{c.damage(err)}); err != nil {
				return err
			}
			continue
		}
		have, err := s.Read(to.ID, tier, c.FirstAt, c.LastAt+1)
		if err != nil {
			return err
		}
		if rows = column.Merge(rows, have); rows.Len() == have.Len() {
			continue
		}
		if err := s.Append(Batch{Entries: []Entry{{Series: to.ID, Tier: tier, Rows: rows}}}); err != nil {
			return err
		}
		if s.SealDue() {
			if err := s.Seal(nil); err != nil {
				return err
			}
		}
	}
	return nil
}

// mostNamed is how many series that were set aside are named one by one.
const mostNamed = 20

// SetAside says of which series the definition was damaged and set aside.
func (s *Store) SetAside() (out []string) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, path := range slices.Sorted(maps.Keys(s.orphans)) {
		if len(out) == mostNamed {
			return append(out, fmt.Sprintf("and of %d more series", len(s.orphans)-mostNamed))
		}
		out = append(out, fmt.Sprintf("the definition of %s did not match its checksum and is set aside; its rows are kept, and come back when the series is defined again, at a gateway with its next reading", path))
	}
	return out
}
