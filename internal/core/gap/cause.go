package gap

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Cause says what made a gap.
type Cause string

// The causes. Of those that could explain a gap equally well, the first counts.
const (
	GatewayOff   Cause = "gateway_off"
	DiskFull     Cause = "disk_full" // or a disk that could not be written for another reason
	ClockInDoubt Cause = "clock_in_doubt"
	SourceDown   Cause = "source_down"
	DeviceOff    Cause = "device_off" // it said that it goes
	UnitAbsent   Cause = "unit_absent"
	RejectedRule Cause = "rejected_by_rule"
	DeviceSilent Cause = "device_silent" // all else was well
	Unknown      Cause = "not_known"

	// Of what was here, and is not any more or not everywhere.
	GivenUp     Cause = "given_up" // it waited too long for an uplink
	Dropped     Cause = "dropped"  // to make room
	Removed     Cause = "removed"  // by a person
	NotRepaired Cause = "damaged"  // and nothing was left to repair it from
)

// Causes are all there are.
var Causes = []Cause{
	GatewayOff, DiskFull, ClockInDoubt, SourceDown, DeviceOff, UnitAbsent, RejectedRule, DeviceSilent, Unknown, GivenUp, Dropped,
	Removed, NotRepaired,
}

// Words returns the cause as people read it.
func (c Cause) Words() string { return strings.ReplaceAll(string(c), "_", " ") }

// OfSilence reports whether the cause is one of readings that did not come.
func (c Cause) OfSilence() bool { return slices.Contains(Causes[:9], c) }

// Episode is a time in which something was the matter.
type Episode struct {
	From, To int64 // nanoseconds since 1970
	Cause    Cause
	Detail   string
}

// within returns how much of an episode is within a span.
func (e Episode) within(from, to int64) int64 { return max(0, min(e.To, to)-max(e.From, from)) }

// explains is the part of a gap, one in so many, of which something must have been the matter for it to be the
// cause of the gap.
const explains = 2

// Explain returns the episode that most of a span was in, or that nothing is known but that nothing came. Episodes
// of the same cause are taken together; that whose detail is told is the longest.
func Explain(from, to int64, episodes []Episode) Episode {
	best := Episode{From: from, To: to, Cause: DeviceSilent}
	var most int64
	for _, cause := range Causes {
		var covered, longest, until int64
		var detail string
		until = from
		same := slices.DeleteFunc(slices.Clone(episodes), func(e Episode) bool { return e.Cause != cause })
		slices.SortFunc(same, func(a, b Episode) int { return cmp.Compare(a.From, b.From) })
		for _, e := range same {
			if n := e.within(from, to); n > longest {
				longest, detail = n, e.Detail
			}
			covered += e.within(max(from, until), to) // what overlaps counts once
			until = max(until, e.To)
		}
		if covered > most {
			most, best.Cause, best.Detail = covered, cause, detail
		}
	}
	if most < (to-from)/explains {
		best.Cause, best.Detail = DeviceSilent, ""
	}
	return best
}

// Check says what is wrong with a cause. Versions to come may know others.
func (c Cause) Check() error {
	if len(c) == 0 || len(c) > 40 || strings.Trim(string(c), "abcdefghijklmnopqrstuvwxyz_") != "" {
		return fmt.Errorf("cause %q is none; a word such as %s is", c, DeviceSilent)
	}
	return nil
}
