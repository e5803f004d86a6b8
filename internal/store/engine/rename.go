package engine

import (
	"fmt"
	"strings"

	"gorm.io/gorm"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/sqlite"
)

// Renaming is a series that gets another path.
type Renaming struct{ Old, New series.Path }

// Taken says that a path that a series should get is another's.
type Taken struct{ Path series.Path }

func (t *Taken) Error() string {
	return fmt.Sprintf("there is a series %s already; two cannot become one", t.Path)
}

// Rename gives series other paths, and keeps all that is stored of them; also is part of the same transaction. Those
// that are not known are left out. Uplinks bring the new paths to their centrals with the last summary of each.
func (e *Engine) Rename(all []Renaming, also ...sqlite.Change) error {
	return e.file.Write(func(w sqlite.Writer) error {
		var changes definitionChanges
		var unwritten bool
		var err error
		e.look(func(m *memory) {
			unwritten = len(m.unwritten) > 0
			err = changes.rename(m, all)
		})
		if err != nil {
			return err
		}
		var pending []Pending
		if len(changes.changed) > 0 {
			pending = e.announce(w, changes.changed)
		}
		err = w.Transaction(func(tx *gorm.DB) error {
			if unwritten {
				if err := e.writeNew(tx, nil); err != nil {
					return err
				}
			}
			for _, p := range pending {
				if err := p.Write(tx); err != nil {
					return err
				}
			}
			for i, known := range changes.changed {
				row := rowOf(&known)
				if err := tx.Exec("UPDATE series SET path = ?, definition = ?, checksum = ? WHERE id = ?", row.Path, row.Definition,
					row.Checksum, row.ID).Error; err != nil {
					return fmt.Errorf("renaming %s: %w", changes.before[i].Path, err)
				}
				if err := e.history.Replaced(tx, known.ID, changes.before[i], known.Definition, e.judge.Now()); err != nil {
					return err
				}
			}
			for _, change := range also {
				if err := change(tx); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return e.file.SetTrouble("writing", err)
		}
		for _, p := range pending {
			p.Written()
		}
		e.alter(func(m *memory) {
			if unwritten {
				m.unwritten = nil
			}
			for i, known := range changes.changed {
				m.catalogue.move(m.catalogue.get(known.ID), changes.before[i].Path, known.Definition)
			}
		})
		return nil
	})
}

func (c *definitionChanges) rename(m *memory, all []Renaming) error {
	leaving := map[series.Path]bool{}
	for _, one := range all {
		leaving[one.Old] = true
	}
	for _, one := range all {
		have := m.catalogue.byPath(one.Old)
		if have == nil {
			continue
		}
		if m.catalogue.byPath(one.New) != nil && !leaving[one.New] {
			return &Taken{one.New}
		}
		again := *have
		again.Path = one.New
		c.changed, c.before = append(c.changed, again), append(c.before, have.Definition)
	}
	return nil
}

// move gives a series another path.
func (c *catalogue) move(s *Series, from series.Path, d series.Definition) {
	at := &c.root
	for level := range strings.SplitSeq(string(from), "/") {
		if at = at.below[level]; at == nil {
			break
		}
	}
	if at != nil && at.series == s {
		at.series = nil // its branch stays, as there may be others below
	}
	c.redefine(s, d)
	c.count--
	c.put(s)
	c.ordered = nil
}
