package room

import (
	"fmt"

	"github.com/dustin/go-humanize"

	"nexocumula/internal/config"
	"nexocumula/internal/store/engine"
)

// marginOf is the part of a limit, one in so many, before which room is made: so that nobody has to wait.
const marginOf = 50

// excess returns by how many bytes a store is beyond its limits, of all and of readings alone, each less a margin; and
// the limit itself, in words, once that is passed.
func excess(l config.Room, u engine.Used) (all, readings uint64, passed string) {
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
	reserve := reserveOf(l, u)
	if wanted := reserve + reserve/marginOf; u.Free < wanted {
		all = max(all, wanted-u.Free)
		if u.Free < reserve && passed == "" {
			passed = fmt.Sprintf("the disk has %s left, and room keeps %s of it free", humanize.Bytes(u.Free),
				humanize.Bytes(reserve))
		}
	}
	return all, readings, passed
}

// A reserve that nobody set is so much, or on a small disk one in so many of its bytes.
const (
	usualReserve = 100_000_000
	reserveOfAll = 20
)

// reserveOf returns how many bytes of the disk stay free. Of a disk of which nothing is known nothing can be kept.
func reserveOf(l config.Room, u engine.Used) uint64 {
	switch {
	case u.Disk == 0:
		return 0
	case l.Reserve != nil:
		return *l.Reserve
	}
	return min(usualReserve, u.Disk/reserveOfAll)
}
