package store

import (
	"fmt"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
)

// Series is a series the store knows.
type Series struct {
	ID uint32
	series.Definition
	FirstSeen int64 // oldest time, nanoseconds since 1970; 0 without rows
	LastTime  int64 // time of the latest value; 0 without rows
	LastValue float64
}

// saw keeps first and latest up to date with rows that were appended.
func (s *Series) saw(tier rollup.Tier, rows column.Block) {
	if rows.Len() == 0 {
		return
	}
	last := rows.Len() - 1
	first, t := rows.Times[0], rows.Times[last]
	var value float64
	if tier == rollup.Readings {
		value = rows.Cols[0][last]
	} else {
		c := rows.Cols
		first += int64(c[rollup.ColFirstAt][0])
		t, value = t+int64(c[rollup.ColLastAt][last]), c[rollup.ColLast][last]
	}
	if s.FirstSeen == 0 || first < s.FirstSeen {
		s.FirstSeen = first
	}
	if t >= s.LastTime {
		s.LastTime, s.LastValue = t, value
	}
}

func (s *Store) loadCatalogue() error {
	var rows []seriesRow
	if err := s.db.Find(&rows).Error; err != nil {
		return fmt.Errorf("reading the catalogue: %w", err)
	}
	for _, r := range rows {
		s.catalogue.put(&Series{
			ID: r.ID, FirstSeen: r.FirstSeen, LastTime: r.LastTime, LastValue: r.LastValue,
			Definition: series.Definition{Path: series.Path(r.Path), Kind: series.Kind(r.Kind), Unit: r.Unit, FreshFor: time.Duration(r.FreshFor), Wrap: r.Wrap, Labels: series.Labels(r.Labels)},
		})
	}
	return nil
}

// KindChanged refuses to define a series as of another kind: the summaries it has are
// of the old one.
type KindChanged struct {
	Path    series.Path
	Was, Is series.Kind
}

func (e *KindChanged) Error() string {
	return fmt.Sprintf("%s was recorded as a %s and cannot become a %s; give it another path, or the old kind", e.Path, e.Was, e.Is)
}

// Define makes sure that the store knows each definition as given, and returns
// their ids in the same order. New and changed ones are written at once.
func (s *Store) Define(defs []series.Definition) ([]uint32, error) {
	ids := make([]uint32, len(defs))
	if s.known(defs, ids) {
		return ids, nil
	}
	s.write.Lock()
	defer s.write.Unlock()
	err := s.db.Transaction(func(tx *gorm.DB) error {
		for i, d := range defs {
			id, err := s.define(tx, d)
			if err != nil {
				return fmt.Errorf("writing series %s to the catalogue: %w", d.Path, err)
			}
			ids[i] = id
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, d := range defs {
		if known := s.catalogue.get(ids[i]); known != nil {
			s.catalogue.redefine(known, d)
		} else {
			s.catalogue.put(&Series{ID: ids[i], Definition: d})
		}
	}
	return ids, nil
}

// known fills ids and reports whether all definitions stand as given.
func (s *Store) known(defs []series.Definition, ids []uint32) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for i, d := range defs {
		have := s.catalogue.byPath(d.Path)
		if have == nil || have.Definition != d {
			return false
		}
		ids[i] = have.ID
	}
	return true
}

func (s *Store) define(tx *gorm.DB, d series.Definition) (uint32, error) {
	var row seriesRow
	if err := tx.Where("path = ?", string(d.Path)).Limit(1).Find(&row).Error; err != nil {
		return 0, err
	}
	if row.ID != 0 && row.Kind != string(d.Kind) {
		return 0, &KindChanged{Path: d.Path, Was: series.Kind(row.Kind), Is: d.Kind}
	}
	row.Path, row.Kind, row.Unit, row.FreshFor = string(d.Path), string(d.Kind), d.Unit, int64(d.FreshFor)
	row.Wrap, row.Labels = d.Wrap, string(d.Labels)
	err := tx.Save(&row).Error // sets row.ID of a new row
	return row.ID, err
}

// List is every series that the selector names, by path.
func (s *Store) List(selector series.Selector) []Series {
	s.mu.RLock()
	defer s.mu.RUnlock()
	found, _ := s.catalogue.find(selector)
	out := make([]Series, len(found))
	for i, known := range found {
		out[i] = *known
	}
	return out
}

// Get is the series with the id.
func (s *Store) Get(id uint32) (Series, bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	known := s.catalogue.get(id)
	if known == nil {
		return Series{}, false
	}
	return *known, true
}

// Count is how many series there are.
func (s *Store) Count() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.catalogue.count
}
