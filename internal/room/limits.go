package room

import (
	"fmt"

	"github.com/dustin/go-humanize"

	"nexocumula/internal/config"
)

// Used says how large a store is.
type Used struct {
	Readings uint64 // about; 0 when it is not limited
	Store    uint64 // what its files have, without what is free within them
	Free     uint64 // on the disk and within the files
}

// marginOf is the part of a limit, one in so many, before which room is made: so that nobody has to wait.
const marginOf = 50

// excess returns by how many bytes a store is beyond its limits, of all and of readings alone, each less a margin; and
// the limit itself, in words, once that is passed.
func excess(l config.Room, u Used) (all, readings uint64, passed string) {
	over := func(have, most uint64, what string) uint64 {
		if most == 0 {
			return 0
		}
		if have > most && passed == "" {
			passed = fmt.Sprintf("%s, and room allows %s", fmt.Sprintf(what, humanize.Bytes(have)), humanize.Bytes(most))
		}
		if within := most - most/marginOf; have > within {
			return have - within
		}
		return 0
	}
	readings = over(u.Readings, l.Readings, "the readings have about %s")
	all = over(u.Store, l.Store, "the store has %s")
	if wanted := l.Reserve + l.Reserve/marginOf; u.Free < wanted {
		all = max(all, wanted-u.Free)
		if u.Free < l.Reserve && passed == "" {
			passed = fmt.Sprintf("the disk has %s left, and room keeps %s of it free", humanize.Bytes(u.Free),
				humanize.Bytes(l.Reserve))
		}
	}
	return all, readings, passed
}
