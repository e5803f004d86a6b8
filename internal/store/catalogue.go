package store

import (
	"cmp"
	"fmt"
	"slices"
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

// catalogue holds every series in memory, by id and by path.
type catalogue struct {
	byID   map[uint32]*Series
	byPath map[series.Path]*Series
	sorted []*Series // by path
}

func newCatalogue() catalogue {
	return catalogue{byID: map[uint32]*Series{}, byPath: map[series.Path]*Series{}}
}

func (c *catalogue) put(s *Series) {
	c.byID[s.ID] = s
	c.byPath[s.Path] = s
	i, _ := slices.BinarySearchFunc(c.sorted, s.Path, func(a *Series, p series.Path) int { return cmp.Compare(a.Path, p) })
	c.sorted = slices.Insert(c.sorted, i, s)
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
		sum := rollup.FromRow(rows, last)
		first, t, value = rollup.FromRow(rows, 0).FirstAt, sum.LastAt, sum.Last
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
	if err := s.db.Order("path desc").Find(&rows).Error; err != nil {
		return fmt.Errorf("reading the catalogue: %w", err)
	}
	for _, r := range rows {
		s.catalogue.put(&Series{
			ID: r.ID, FirstSeen: r.FirstSeen, LastTime: r.LastTime, LastValue: r.LastValue,
			Definition: series.Definition{Path: series.Path(r.Path), Kind: series.Kind(r.Kind), Unit: r.Unit, FreshFor: time.Duration(r.FreshFor)},
		})
	}
	return nil
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
		if known := s.catalogue.byID[ids[i]]; known != nil {
			known.Definition = d
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
		have := s.catalogue.byPath[d.Path]
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
	row.Path, row.Kind, row.Unit, row.FreshFor = string(d.Path), string(d.Kind), d.Unit, int64(d.FreshFor)
	err := tx.Save(&row).Error // sets row.ID of a new row
	return row.ID, err
}

// List is every series whose path the selector matches, by path.
func (s *Store) List(selector series.Selector) []Series {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var out []Series
	for _, known := range s.catalogue.sorted {
		if selector.Match(known.Path) {
			out = append(out, *known)
		}
	}
	return out
}

// Get is the series with the id.
func (s *Store) Get(id uint32) (Series, bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	known := s.catalogue.byID[id]
	if known == nil {
		return Series{}, false
	}
	return *known, true
}

// Count is how many series there are.
func (s *Store) Count() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.catalogue.sorted)
}
