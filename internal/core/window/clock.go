package window

import "time"

// A reading of the clock is what the clocks of a zone show, written as if it were UTC:
// in it days have 24 hours, and every day of the calendar is there. Calendar steps are
// taken in readings; only their outcome becomes a time.

// reading returns the local clock's display in t's zone.
func reading(t time.Time) time.Time {
	year, month, day := t.Date()
	h, m, s := t.Clock()
	return time.Date(year, month, day, h, m, s, t.Nanosecond(), time.UTC)
}

// when returns the time at which the clocks of a zone show a reading. Where they show it
// twice, as when they are set back, it is the first time; where never, the moment at
// which they are set ahead past it.
func when(reading time.Time, zone *time.Location) time.Time {
	near := time.Date(reading.Year(), reading.Month(), reading.Day(), reading.Hour(), reading.Minute(),
		reading.Second(), reading.Nanosecond(), zone)
	start, end := near.ZoneBounds()
	var offsets []int
	if !start.IsZero() {
		_, before := start.Add(-time.Second).Zone()
		offsets = append(offsets, before)
	}
	_, now := near.Zone()
	offsets = append(offsets, now)
	if !end.IsZero() {
		_, after := end.Zone()
		offsets = append(offsets, after)
	}
	var found time.Time
	for _, offset := range offsets {
		t := reading.Add(-time.Duration(offset) * time.Second).In(zone)
		if _, real := t.Zone(); real == offset && (found.IsZero() || t.Before(found)) {
			found = t
		}
	}
	if !found.IsZero() {
		return found
	}
	// Never shown: one of the bounds is where the clocks were set past it.
	for _, bound := range []time.Time{start, end} {
		if bound.IsZero() {
			continue
		}
		_, before := bound.Add(-time.Second).Zone()
		_, after := bound.Zone()
		from, to := bound.UTC().Add(time.Duration(before)*time.Second), bound.UTC().Add(time.Duration(after)*time.Second)
		if !reading.Before(from) && reading.Before(to) {
			return bound.In(zone)
		}
	}
	return near
}

// midnight of a day of the calendar, as a reading.
func midnight(year int, month time.Month, day int) time.Time {
	return time.Date(year, month, day, 0, 0, 0, 0, time.UTC)
}
