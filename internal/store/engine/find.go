package engine

import "nexocumula/internal/core/series"

// List returns every series that the selector names, by path.
func (e *Engine) List(selector series.Selector) (out []Series) {
	e.look(func(m *memory) {
		found, _ := m.catalogue.find(selector)
		out = make([]Series, len(found))
		for i, known := range found {
			out[i] = *known
		}
	})
	return out
}

// Page returns the first of the series that the selector names and somebody may see, by path and after a path, at
// most so many; more says whether there are others after them.
func (e *Engine) Page(selector series.Selector, after series.Path, most int, sees func(series.Path) bool) (page []Series, more bool) {
	read := func(m *memory) {
		m.catalogue.page(selector, after, func(s *Series) bool {
			if !sees(s.Path) {
				return true
			}
			if more = len(page) == most; !more {
				page = append(page, *s)
			}
			return !more
		})
	}
	ready := false
	e.look(func(m *memory) {
		if ready = m.catalogue.ordered != nil; ready {
			read(m)
		}
	})
	if !ready {
		e.alter(func(m *memory) {
			m.catalogue.order()
			read(m)
		})
	}
	return page, more
}

// Find returns the series with the path.
func (e *Engine) Find(path series.Path) (Series, bool) {
	return e.one(func(c *catalogue) *Series { return c.byPath(path) })
}

// Get returns the series with the id.
func (e *Engine) Get(id uint32) (Series, bool) {
	return e.one(func(c *catalogue) *Series { return c.get(id) })
}

func (e *Engine) one(find func(c *catalogue) *Series) (out Series, ok bool) {
	e.look(func(m *memory) {
		if known := find(&m.catalogue); known != nil {
			out, ok = *known, true
		}
	})
	return out, ok
}

// CountOf returns how many series a site has.
func (e *Engine) CountOf(site string) (n int) {
	selector, err := series.ParseSelector(site + "/#")
	if err != nil {
		return 0
	}
	e.look(func(m *memory) {
		found, _ := m.catalogue.find(selector)
		n = len(found)
	})
	return n
}

// Count returns how many series there are.
func (e *Engine) Count() (n int) {
	e.look(func(m *memory) { n = m.catalogue.count })
	return n
}

// LastID returns the highest id that a series ever had.
func (e *Engine) LastID() (id uint32) {
	e.look(func(m *memory) { id = uint32(max(0, len(m.catalogue.byID)-1)) })
	return id
}
