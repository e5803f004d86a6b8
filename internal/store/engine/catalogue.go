package engine

import (
	"cmp"
	"slices"
	"strings"

	"nexocumula/internal/core/series"
)

// catalogue holds every series in memory: by id, as a tree of the levels of the paths,
// and by label. A selector walks down only where its levels lead, and one with labels
// begins with the rarest of them, so neither looks at series it does not name.
type catalogue struct {
	byID    []*Series // index is the id; nil where there is none
	root    branch
	byLabel map[string]map[uint32]*Series // by key=value
	ordered []*Series                     // by path; nil when it has to be made anew
	count   int
}

// branch is a node of the path tree: perhaps a series that ends here, and the branches
// below.
type branch struct {
	series *Series
	below  map[string]*branch
}

func (c *catalogue) get(id uint32) *Series {
	if int(id) >= len(c.byID) {
		return nil
	}
	return c.byID[id]
}

func (c *catalogue) byPath(p series.Path) *Series {
	at := &c.root
	for level := range strings.SplitSeq(string(p), "/") {
		if at = at.below[level]; at == nil {
			return nil
		}
	}
	return at.series
}

func (c *catalogue) put(s *Series) {
	if missing := int(s.ID) + 1 - len(c.byID); missing > 0 {
		c.byID = append(c.byID, make([]*Series, missing)...)
	}
	c.byID[s.ID] = s
	at := &c.root
	for level := range strings.SplitSeq(string(s.Path), "/") {
		next := at.below[level]
		if next == nil {
			if at.below == nil {
				at.below = map[string]*branch{}
			}
			next = &branch{}
			at.below[level] = next
		}
		at = next
	}
	at.series = s
	if n := len(c.ordered); n > 0 && c.ordered[n-1].Path < s.Path {
		c.ordered = append(c.ordered, s)
	} else {
		c.ordered = nil
	}
	c.count++
	c.label(s)
}

// redefine gives a known series another definition of the same path.
func (c *catalogue) redefine(s *Series, d series.Definition) {
	for pair := range s.Labels.Pairs() {
		delete(c.byLabel[pair], s.ID)
	}
	s.Definition = d
	c.label(s)
}

func (c *catalogue) label(s *Series) {
	for pair := range s.Labels.Pairs() {
		if c.byLabel == nil {
			c.byLabel = map[string]map[uint32]*Series{}
		}
		if c.byLabel[pair] == nil {
			c.byLabel[pair] = map[uint32]*Series{}
		}
		c.byLabel[pair][s.ID] = s
	}
}

// find returns the series that a selector names, by path, and how many places it looked at.
func (c *catalogue) find(selector series.Selector) (found []*Series, visited int) {
	f := finder{selector: selector}
	if selector.Labels() != "" {
		f.withLabels(c)
	} else {
		f.walk(&c.root, selector.Levels())
	}
	slices.SortFunc(f.found, byPath)
	return f.found, f.visited
}

func byPath(a, b *Series) int { return cmp.Compare(a.Path, b.Path) }

// order makes the list of all series by path, when there is none.
func (c *catalogue) order() {
	if c.ordered != nil {
		return
	}
	for _, s := range c.byID {
		if s != nil {
			c.ordered = append(c.ordered, s)
		}
	}
	slices.SortFunc(c.ordered, byPath)
}

// page calls visit with the series that a selector names, by path, from the first after a path on, until it
// returns false. The list of all has to be there.
func (c *catalogue) page(selector series.Selector, after series.Path, visit func(*Series) bool) {
	of, begins := c.ordered, selector.Begins()
	if selector.Labels() != "" {
		of, _ = c.find(selector)
	}
	from, found := slices.BinarySearchFunc(of, max(after, series.Path(begins)),
		func(s *Series, path series.Path) int { return cmp.Compare(s.Path, path) })
	if found && of[from].Path == after {
		from++
	}
	for _, s := range of[from:] {
		if !strings.HasPrefix(string(s.Path), begins) || selector.Match(s.Path) && !visit(s) {
			return
		}
	}
}

type finder struct {
	selector series.Selector
	found    []*Series
	visited  int
}

func (f *finder) withLabels(c *catalogue) {
	labels := f.selector.Labels()
	var rarest map[uint32]*Series
	first := true
	for pair := range labels.Pairs() {
		if with := c.byLabel[pair]; first || len(with) < len(rarest) {
			rarest, first = with, false
		}
	}
	for _, s := range rarest {
		f.visited++
		if s.Labels.Has(labels) && f.selector.Match(s.Path) {
			f.found = append(f.found, s)
		}
	}
}

func (f *finder) walk(at *branch, levels []string) {
	f.visited++
	if at.series != nil && (len(levels) == 0 || levels[0] == "#") { // # is also the level above, MQTT 5.0 4.7.1.2
		f.found = append(f.found, at.series)
	}
	if len(levels) == 0 {
		return
	}
	switch levels[0] {
	case "#":
		for _, next := range at.below {
			f.walk(next, levels)
		}
	case "+":
		for _, next := range at.below {
			f.walk(next, levels[1:])
		}
	default:
		if next := at.below[levels[0]]; next != nil {
			f.walk(next, levels[1:])
		}
	}
}
