package store

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"

	"nexocumula/internal/core/column"
	"nexocumula/internal/core/rollup"
	"nexocumula/internal/core/series"
	"nexocumula/internal/core/thin"
)

// Series is a series the store knows.
type Series struct {
	ID uint32
	series.Definition
	Collected bool  // its readings are here, not only its summaries
	FirstSeen int64 // oldest time, nanoseconds since 1970; 0 without rows
	LastTime  int64 // time of the latest value; 0 without rows
	LastValue float64
	Ended     int64 // when who measures it said that it goes, if nothing came since; not kept over a restart; 0: it did not
	Late      Late  // what its summaries may not say yet

	// SummarisedTo is where the last window ends that has a summary, or a later time.
	SummarisedTo int64

	ThinnedTo int64 // not all readings before it are here; 0: all are
	Thinned   thin.Tally
}

// thinnedTo is from where on readings are thinned by another definition. What was stored before it
// asked for that stays.
func (s *Series) thinnedTo(by *series.Definition) int64 {
	if s.Thinning == "" && by.Thinning != "" && s.Collected {
		return max(s.ThinnedTo, s.LastTime+1)
	}
	return s.ThinnedTo
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
		value, s.Collected = rows.Cols[0][last], true
		s.Late = s.Late.and(s.belated(first, t))
	} else {
		c := rows.Cols
		s.SummarisedTo = max(s.SummarisedTo, rows.Times[last]+int64(tier))
		first += int64(c[rollup.ColFirstAt][0])
		t, value = t+int64(c[rollup.ColLastAt][last]), c[rollup.ColLast][last]
	}
	if s.FirstSeen == 0 || first < s.FirstSeen {
		s.FirstSeen = first
	}
	if t >= s.LastTime {
		s.LastTime, s.LastValue = t, value
	}
	s.Ended = 0 // whatever its time, something came
}

func (s *Store) loadCatalogue() error {
	var rows []seriesRow
	if err := s.db.Find(&rows).Error; err != nil {
		return fmt.Errorf("reading the catalogue: %w", err)
	}
	var broken []damagedRow
	latest := s.judge.Now()
	if before := s.judge.Newest(); before.After(latest) {
		latest = before
	}
	for _, r := range rows {
		if !r.matches() {
			broken = append(broken, damagedRow{ID: uint64(r.ID), Place: "series", Reason: "the series' definition does not match its checksum; its chunks stay, but nothing says what they are of", Series: r.ID, Raw: fmt.Appendf(nil, "%+v", r)})
			continue
		}
		known := &Series{
			ID: r.ID, Definition: r.definition(), Collected: r.Collected, FirstSeen: r.FirstSeen, LastTime: r.LastTime, LastValue: r.LastValue,
			ThinnedTo: r.ThinnedTo, Thinned: thin.Tally{Arrived: uint64(r.Thinned), Kept: uint64(r.Kept), Worst: r.Worst},
		}
		known.SummarisedTo = known.summarisedAtMost(latest.UnixNano())
		s.catalogue.put(known)
	}
	if err := s.setAside(broken); err != nil {
		return err
	}
	return s.countIDs()
}

// countIDs finds the highest ids there are, so that none is used again: rows of a series
// whose definition is lost must not become another's.
func (s *Store) countIDs() error {
	for _, of := range []struct {
		into  any
		query string
	}{
		{&s.lastSeries, "SELECT max(coalesce((SELECT max(id) FROM series), 0), coalesce((SELECT max(series) FROM chunks), 0), coalesce((SELECT max(series) FROM damaged), 0))"},
		{&s.nextChunk, "SELECT coalesce(max(id), 0) FROM chunks"},
		{&s.lastReject, "SELECT coalesce(max(id), 0) FROM rejects"},
	} {
		if err := s.db.Raw(of.query).Scan(of.into).Error; err != nil {
			return fmt.Errorf("reading the catalogue: %w", err)
		}
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
	return s.defineAll(defs, nil, false)
}

// Redefine is Define for series that may have no new rows for long: what changes is announced to the
// centrals by sending their last summary again.
func (s *Store) Redefine(defs []series.Definition) ([]uint32, error) {
	return s.defineAll(defs, nil, true)
}

// Keep says what a definition keeps of the one that is known, such as its tiers. It is called in the same step in which
// the definition is written, so that no other change comes in between.
type Keep func(def *series.Definition, known *series.Definition)

// DefineKeeping is Define for definitions that say only a part of what is known.
func (s *Store) DefineKeeping(defs []series.Definition, keep Keep) ([]uint32, error) {
	return s.defineAll(slices.Clone(defs), keep, false)
}

// Update changes definitions that are known, in the same step in which they are read, and announces the changes as
// Redefine does. A series that is not known is left out.
func (s *Store) Update(ids []uint32, change func(id uint32, def *series.Definition)) error {
	var defs []series.Definition
	of := map[series.Path]uint32{}
	for _, id := range ids {
		if known, ok := s.Get(id); ok {
			defs, of[known.Path] = append(defs, known.Definition), id
		}
	}
	_, err := s.defineAll(defs, func(def, known *series.Definition) {
		*def = *known
		change(of[def.Path], def)
	}, true)
	return err
}

func (s *Store) defineAll(defs []series.Definition, keep Keep, announce bool) ([]uint32, error) {
	ids := make([]uint32, len(defs))
	if s.stands(defs, keep, ids) {
		return ids, nil
	}
	back, err := s.define(defs, keep, ids, announce)
	if err != nil {
		return nil, err
	}
	for _, o := range back {
		if err := s.recall(o.id); err != nil {
			return nil, err
		}
	}
	return ids, nil
}

// settle gives definitions what they keep of those that are known. mu is held.
func (s *Store) settle(defs []series.Definition, keep Keep) {
	if keep == nil {
		return
	}
	for i := range defs {
		if known := s.catalogue.byPath(defs[i].Path); known != nil {
			keep(&defs[i], &known.Definition)
		}
	}
}

// define writes new and changed definitions, and returns which of the new are orphans that came back.
func (s *Store) define(defs []series.Definition, keep Keep, ids []uint32, announce bool) (back []orphan, err error) {
	s.write.Lock()
	defer s.write.Unlock()
	s.mu.RLock()
	s.settle(defs, keep)
	s.mu.RUnlock()
	fresh, changed, err := s.sort(defs)
	if err != nil {
		return nil, err
	}
	last := s.lastSeries
	for _, row := range fresh {
		if o, ok := s.orphanOf(series.Path(row.Path), row.Kind); ok {
			row.ID, back = o.id, append(back, o)
		} else {
			last++
			row.ID = last
		}
		row.complete()
	}
	var marks []*outboxChange
	if announce {
		marks = s.announce(changed)
	}
	err = s.db.Transaction(func(tx *gorm.DB) error {
		if err := comeBack(tx, back); err != nil {
			return err
		}
		for _, m := range marks {
			if err := m.write(tx); err != nil {
				return err
			}
		}
		if err := tx.CreateInBatches(fresh, 500).Error; err != nil {
			return fmt.Errorf("writing new series to the catalogue: %w", err)
		}
		for _, row := range changed {
			if err := updateSeries(tx, row); err != nil {
				return fmt.Errorf("writing series %s to the catalogue: %w", row.Path, err)
			}
		}
		return s.writeVersions(tx, changed)
	})
	if err != nil {
		return nil, s.noted("writing", err)
	}
	for _, m := range marks {
		m.saved()
	}
	s.lastSeries = last
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, o := range back {
		s.damaged--
		maps.DeleteFunc(s.orphans, func(_ series.Path, known orphan) bool { return known == o })
	}
	for _, row := range fresh {
		s.catalogue.put(&Series{ID: row.ID, Definition: row.definition()})
	}
	for _, row := range changed {
		known := s.catalogue.get(row.ID)
		known.ThinnedTo = row.ThinnedTo
		s.catalogue.redefine(known, row.definition())
	}
	for i, d := range defs {
		ids[i] = s.catalogue.byPath(d.Path).ID
	}
	return back, nil
}

// sort tells new series from those whose definition changes; of several for one path
// the last counts.
func (s *Store) sort(defs []series.Definition) (fresh []*seriesRow, changed []seriesRow, err error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	seen := map[series.Path]*seriesRow{}
	for _, d := range defs {
		row := rowOf(Series{Definition: d})
		have := s.catalogue.byPath(d.Path)
		switch before := seen[d.Path]; {
		case have != nil && have.Kind != d.Kind:
			return nil, nil, &KindChanged{Path: d.Path, Was: have.Kind, Is: d.Kind}
		case before != nil && before.Kind != row.Kind:
			return nil, nil, &KindChanged{Path: d.Path, Was: series.Kind(before.Kind), Is: d.Kind}
		case have != nil && have.Definition != d:
			again := *have
			again.Definition = d
			again.ThinnedTo = have.thinnedTo(&d)
			changed = append(changed, rowOf(again))
		case have == nil && before != nil:
			*before = row
		case have == nil:
			seen[d.Path] = &row
			fresh = append(fresh, &row)
		}
	}
	return fresh, changed, nil
}

func rowOf(known Series) seriesRow {
	d := known.Definition
	row := seriesRow{
		ID: known.ID, Path: string(d.Path), Kind: string(d.Kind), Unit: d.Unit, FreshFor: int64(d.FreshFor), Wrap: d.Wrap, Labels: string(d.Labels), Sketch: d.Sketch, States: string(d.States),
		Curve:     d.Calibration,
		Normal:    string(d.Normal),
		Every:     int64(d.Every),
		Tiers:     d.Tiers,
		Thinning:  d.Thinning,
		ThinnedTo: known.ThinnedTo,
		Thinned:   int64(known.Thinned.Arrived),
		Kept:      int64(known.Thinned.Kept),
		Worst:     known.Thinned.Worst,
		Collected: known.Collected, FirstSeen: known.FirstSeen, LastTime: known.LastTime, LastValue: known.LastValue,
	}
	row.complete()
	return row
}

// updateSeries writes all of a series' row but its path and kind, which never change.
func updateSeries(tx *gorm.DB, r seriesRow) error {
	return tx.Exec("UPDATE series SET unit = ?, fresh_for = ?, wrap = ?, labels = ?, sketch = ?, states = ?, curve = ?, normal = ?, every = ?, tiers = ?, thinning = ?, thinned_to = ?, thinned = ?, kept = ?, worst = ?, collected = ?, first_seen = ?, last_time = ?, last_value = ?, checksum = ? WHERE id = ?",
		r.Unit, r.FreshFor, r.Wrap, r.Labels, r.Sketch, r.States, r.Curve, r.Normal, r.Every, r.Tiers, r.Thinning, r.ThinnedTo, r.Thinned, r.Kept, r.Worst, r.Collected, r.FirstSeen, r.LastTime, r.LastValue, r.Checksum, r.ID).Error
}

func (r *seriesRow) definition() series.Definition {
	return series.Definition{
		Path: series.Path(r.Path), Kind: series.Kind(r.Kind), Unit: r.Unit,
		FreshFor: time.Duration(r.FreshFor), Wrap: r.Wrap, Labels: series.Labels(r.Labels), Sketch: r.Sketch, States: series.StateNames(r.States),
		Calibration: r.Curve, Normal: series.Normal(r.Normal), Every: time.Duration(r.Every), Tiers: r.Tiers, Thinning: r.Thinning,
	}
}

// stands fills ids and reports whether all definitions stand as given.
func (s *Store) stands(defs []series.Definition, keep Keep, ids []uint32) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if keep != nil {
		defs = slices.Clone(defs)
		s.settle(defs, keep)
	}
	for i, d := range defs {
		have := s.catalogue.byPath(d.Path)
		if have == nil || have.Definition != d {
			return false
		}
		ids[i] = have.ID
	}
	return true
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

// Find is the series with the path.
func (s *Store) Find(path series.Path) (Series, bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	known := s.catalogue.byPath(path)
	if known == nil {
		return Series{}, false
	}
	return *known, true
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

// CountOf returns how many series a site has.
func (s *Store) CountOf(site string) int {
	selector, err := series.ParseSelector(site + "/#")
	if err != nil {
		return 0
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	found, _ := s.catalogue.find(selector)
	return len(found)
}

// Count is how many series there are.
func (s *Store) Count() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.catalogue.count
}
