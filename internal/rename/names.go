// Package rename knows what series were called before, so that what comes under an old name is the new one's.
package rename

import (
	"sync/atomic"

	"nexocumula/internal/core/series"
	"nexocumula/internal/store/records"
)

// Names are today's names of series that had others. They may be used by many at once.
type Names struct {
	renames records.Renames
	of      atomic.Pointer[map[series.Path]series.Path]
}

// Open reads which series were renamed.
func Open(renames records.Renames) (*Names, error) {
	n := &Names{renames: renames}
	return n, n.Refresh()
}

// Refresh reads which series were renamed meanwhile.
func (n *Names) Refresh() error {
	all, err := n.renames.Since(0, -1)
	if err != nil {
		return err
	}
	of := resolve(all)
	n.of.Store(&of)
	return nil
}

// resolve follows renames in order: of a name that was given again, the last counts.
func resolve(all []records.Rename) map[series.Path]series.Path {
	of := map[series.Path]series.Path{}
	for _, one := range all {
		for old, now := range of {
			if now == one.Old {
				of[old] = one.New
			}
		}
		of[one.Old] = one.New
		delete(of, one.New)
	}
	return of
}

// Of returns what a series is called now.
func (n *Names) Of(path series.Path) series.Path {
	if now, ok := (*n.of.Load())[path]; ok {
		return now
	}
	return path
}
