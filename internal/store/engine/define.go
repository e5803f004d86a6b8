package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"gorm.io/gorm"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// KindChanged refuses to define a series as of another kind: the summaries it has are
// of the old one.
type KindChanged struct {
	Path    series.Path
	Was, Is series.Kind
}

func (e *KindChanged) Error() string {
	return fmt.Sprintf("%s was recorded as a %s and cannot become a %s; give it another path, or the old kind", e.Path,
		e.Was, e.Is)
}

// Define makes sure that the store knows each definition as given, and returns
// their ids in the same order. New and changed ones are written at once.
func (e *Engine) Define(ctx context.Context, defs []series.Definition) ([]uint32, error) {
	return e.defineAll(ctx, definitions{defs: defs})
}

// Redefine is Define for series that may have no new rows for long: companions are told of what
// changes, so that uplinks announce it to their centrals.
func (e *Engine) Redefine(ctx context.Context, defs []series.Definition) ([]uint32, error) {
	return e.defineAll(ctx, definitions{defs: defs, announce: true})
}

// Keep says what a definition keeps of the one that is known, such as its tiers. It is called in the same step in which
// the definition is written, so that no other change comes in between.
type Keep func(def *series.Definition, known *series.Definition)

// DefineKeeping is Define for definitions that say only a part of what is known. New series are written
// with the next Append, as they have no rows before: thousands that come one by one cost no transaction each.
func (e *Engine) DefineKeeping(ctx context.Context, defs []series.Definition, keep Keep) ([]uint32, error) {
	return e.defineAll(ctx, definitions{defs: slices.Clone(defs), keep: keep, later: true})
}

// Update changes definitions that are known, in the same step in which they are read, and announces the changes as
// Redefine does. A series that is not known is left out.
func (e *Engine) Update(ctx context.Context, ids []uint32, change func(id uint32, def *series.Definition)) error {
	var defs []series.Definition
	of := map[series.Path]uint32{}
	for _, id := range ids {
		if known, ok := e.Get(id); ok {
			defs, of[known.Path] = append(defs, known.Definition), id
		}
	}
	_, err := e.defineAll(ctx, definitions{defs: defs, announce: true, keep: func(def, known *series.Definition) {
		*def = *known
		change(of[def.Path], def)
	}})
	return err
}

// definitions are what is to be defined together.
type definitions struct {
	defs     []series.Definition
	keep     Keep // may be nil
	announce bool
	later    bool // new ones may be written with the next Append
}

func (e *Engine) defineAll(ctx context.Context, d definitions) ([]uint32, error) {
	ids := make([]uint32, len(d.defs))
	if e.stands(d, ids) {
		return ids, nil
	}
	var back []orphan
	err := e.file.Write(func(w sqlite.Writer) (err error) {
		back, err = e.define(w, d, ids)
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, o := range back {
		if err := e.recall(ctx, o.id); err != nil {
			return nil, err
		}
	}
	return ids, nil
}

// stands fills ids and reports whether all definitions stand as given.
func (e *Engine) stands(d definitions, ids []uint32) (all bool) {
	all = true
	e.look(func(m *memory) {
		for i, def := range m.settled(d) {
			have := m.catalogue.byPath(def.Path)
			if all = all && have != nil && have.Definition == def; !all {
				return
			}
			ids[i] = have.ID
		}
	})
	return all
}

// settled returns the definitions with what they keep of those that are known.
func (m *memory) settled(d definitions) []series.Definition {
	if d.keep == nil {
		return d.defs
	}
	out := slices.Clone(d.defs)
	for i := range out {
		if known := m.catalogue.byPath(out[i].Path); known != nil {
			d.keep(&out[i], &known.Definition)
		}
	}
	return out
}

// definitionChanges are the rows of the catalogue that a definition writes.
type definitionChanges struct {
	fresh   []*Series
	changed []Series // with their new definitions
	before  []series.Definition
	back    []orphan // that are among the fresh
	last    uint32   // highest id
}

// define writes new and changed definitions, and returns which of the new are orphans that came back.
func (e *Engine) define(w sqlite.Writer, d definitions, ids []uint32) (back []orphan, err error) {
	changes := definitionChanges{last: e.numbers(w).lastSeries}
	var defs []series.Definition
	var unwritten []*Series
	e.look(func(m *memory) {
		unwritten = m.unwritten
		defs = m.settled(d)
		err = changes.find(m, defs)
	})
	if err != nil {
		return nil, err
	}
	var pending []Pending
	if d.announce && len(changes.changed) > 0 {
		pending = e.announce(w, changes.changed)
	}
	later := d.later && len(changes.changed)+len(changes.back) == 0
	if !later {
		if err := e.writeDefinitions(w, &changes, pending); err != nil {
			return nil, e.file.SetTrouble("writing", err)
		}
	}
	for _, p := range pending {
		p.Written()
	}
	e.file.CountMended(len(changes.back))
	e.numbers(w).lastSeries = changes.last
	e.alter(func(m *memory) {
		if m.unwritten = nil; later {
			m.unwritten = append(unwritten, changes.fresh...)
		}
		m.redefine(&changes)
		for i, def := range defs {
			ids[i] = m.catalogue.byPath(def.Path).ID
		}
	})
	return changes.back, nil
}

// announce tells companions whose definition changes, and returns what they have to write for that.
func (e *Engine) announce(w sqlite.Writer, changed []Series) (pending []Pending) {
	for _, c := range e.companions {
		c.Redefined(w, changed)
		pending = append(pending, c.Pending(w)...)
	}
	return pending
}

// find tells new series from those whose definition changes; of several for one path
// the last counts.
func (c *definitionChanges) find(m *memory, defs []series.Definition) error {
	fresh := map[series.Path]*Series{}
	for _, d := range defs {
		have := m.catalogue.byPath(d.Path)
		switch before := fresh[d.Path]; {
		case have != nil && have.Kind != d.Kind:
			return &KindChanged{Path: d.Path, Was: have.Kind, Is: d.Kind}
		case before != nil && before.Kind != d.Kind:
			return &KindChanged{Path: d.Path, Was: before.Kind, Is: d.Kind}
		case have != nil && have.Definition != d:
			again := *have
			again.Definition = d
			again.ThinnedTo = have.thinnedTo(&d)
			c.changed, c.before = append(c.changed, again), append(c.before, have.Definition)
		case have == nil && before != nil:
			before.Definition = d
		case have == nil:
			fresh[d.Path] = &Series{Definition: d}
			c.fresh = append(c.fresh, fresh[d.Path])
		}
	}
	for _, known := range c.fresh {
		if o, ok := m.orphanOf(known.Path, known.Kind); ok {
			known.ID, c.back = o.id, append(c.back, o)
		} else {
			c.last++
			known.ID = c.last
		}
	}
	return nil
}

func (e *Engine) writeDefinitions(w sqlite.Writer, c *definitionChanges, pending []Pending) error {
	return w.Transaction(func(tx *gorm.DB) error {
		if err := comeBack(tx, c.back); err != nil {
			return err
		}
		for _, p := range pending {
			if err := p.Write(tx); err != nil {
				return err
			}
		}
		if err := e.writeNew(tx, c.fresh); err != nil {
			return err
		}
		thinned := map[uint32]thinnedSeries{}
		ids := map[uint32]bool{}
		for i, known := range c.changed {
			ids[known.ID], thinned[known.ID] = true, thinnedSeries{known.ThinnedTo, known.Thinned}
			if err := rowOf(&known).update(tx); err != nil {
				return fmt.Errorf("writing series %s to the catalogue: %w", known.Path, err)
			}
			if err := e.history.Replaced(tx, known.ID, c.before[i], known.Definition, e.judge.Now()); err != nil {
				return err
			}
		}
		return e.saveLatest(tx, ids, thinned)
	})
}

// writeNew writes series that are new, and those that were left for later.
func (e *Engine) writeNew(tx *gorm.DB, fresh []*Series) error {
	var rows []*seriesRow
	e.look(func(m *memory) {
		for _, known := range slices.Concat(m.unwritten, fresh) {
			rows = append(rows, rowOf(known))
		}
	})
	if len(rows) == 0 {
		return nil
	}
	if err := tx.CreateInBatches(rows, 500).Error; err != nil {
		return fmt.Errorf("writing new series to the catalogue: %w", err)
	}
	return nil
}

// redefine brings the catalogue up to what was written.
func (m *memory) redefine(c *definitionChanges) {
	for _, o := range c.back {
		maps.DeleteFunc(m.orphans, func(_ series.Path, known orphan) bool { return known == o })
	}
	for _, known := range c.fresh {
		m.catalogue.put(known)
	}
	for _, known := range c.changed {
		have := m.catalogue.get(known.ID)
		have.ThinnedTo = known.ThinnedTo
		m.catalogue.redefine(have, known.Definition)
	}
}
