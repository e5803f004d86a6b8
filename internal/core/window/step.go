package window

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"nexocumula/internal/core/span"
)

// Step is a width or a stride: a fixed length, or so many days or months of a calendar,
// which differ in length.
type Step struct {
	Fixed  time.Duration
	Days   int
	Months int
}

// IsZero reports a step that was not given.
func (s Step) IsZero() bool { return s == Step{} }

// ParseStep reads a whole number and ms, s, m or h for a fixed length, or d, w, mo or y
// for days, weeks, months and years of the calendar.
func ParseStep(text string) (Step, error) {
	digits := strings.TrimRight(text, "abcdefghijklmnopqrstuvwxyz")
	n, err := strconv.Atoi(digits)
	wrong := fmt.Errorf("%q: write a whole number and ms, s, m, h, d, w, mo or y, such as 15m, 1d or 1mo", text)
	if err != nil || n < 1 || n > 1e9 {
		return Step{}, wrong
	}
	calendar := func(s Step) (Step, error) {
		if n > 1000 {
			return Step{}, fmt.Errorf("%q: at most 1000 of a calendar's units are possible", text)
		}
		return s, nil
	}
	switch text[len(digits):] {
	case "d":
		return calendar(Step{Days: n})
	case "w":
		return calendar(Step{Days: 7 * n})
	case "mo":
		return calendar(Step{Months: n})
	case "y":
		return calendar(Step{Months: 12 * n})
	case "ms", "s", "m", "h":
		fixed, err := span.Parse(text)
		return Step{Fixed: fixed}, err
	}
	return Step{}, wrong
}

// String is the text ParseStep reads.
func (s Step) String() string {
	switch {
	case s.Months > 0 && s.Months%12 == 0:
		return fmt.Sprintf("%dy", s.Months/12)
	case s.Months > 0:
		return fmt.Sprintf("%dmo", s.Months)
	case s.Days > 0 && s.Days%7 == 0:
		return fmt.Sprintf("%dw", s.Days/7)
	case s.Days > 0:
		return fmt.Sprintf("%dd", s.Days)
	}
	for _, u := range []struct {
		name string
		size time.Duration
	}{{"h", time.Hour}, {"m", time.Minute}, {"s", time.Second}, {"ms", time.Millisecond}} {
		if s.Fixed%u.size == 0 {
			return fmt.Sprintf("%d%s", s.Fixed/u.size, u.name)
		}
	}
	return s.Fixed.String()
}

// About is the step's length, of months and days with daylight saving on average.
func (s Step) About() time.Duration {
	const longest = 290 * 365 * 24 * float64(time.Hour) // there is no room for more
	months := min(longest, float64(s.Months)*30.436875*24*float64(time.Hour))
	return s.Fixed + time.Duration(s.Days)*24*time.Hour + time.Duration(months)
}

// From is the time n steps after origin, on the clocks of origin's zone.
func (s Step) From(origin time.Time, n int) time.Time {
	if s.Fixed > 0 {
		return origin.Add(time.Duration(n) * s.Fixed)
	}
	year, month, day := origin.Date()
	if s.Months > 0 {
		first := time.Date(year, month+time.Month(n*s.Months), 1, 0, 0, 0, 0, time.UTC)
		last := first.AddDate(0, 1, -1).Day()
		year, month, day = first.Year(), first.Month(), min(day, last)
	} else {
		day += n * s.Days
	}
	h, m, sec := origin.Clock()
	return clock(year, month, day, time.Duration(h)*time.Hour+time.Duration(m)*time.Minute+time.Duration(sec)*time.Second, origin.Location())
}

// Index is the last n for which From(origin, n) is not after t.
func (s Step) Index(origin, t time.Time) int {
	length := t.Sub(origin)
	if s.Fixed > 0 {
		n := int(length / s.Fixed)
		if length%s.Fixed < 0 {
			n--
		}
		return n
	}
	n := int(length / s.About())
	for s.From(origin, n).After(t) {
		n--
	}
	for !s.From(origin, n+1).After(t) {
		n++
	}
	return n
}

// clock is when the clocks of a zone show a time of day, so long after midnight. Where
// they show it twice, as when they are set back, it is the first time; where never, the
// moment at which they are set ahead past it.
func clock(year int, month time.Month, day int, sinceMidnight time.Duration, zone *time.Location) time.Time {
	// The clock's reading, taken as if it were UTC; minus an offset it is a real time.
	reading := time.Date(year, month, day, 0, 0, 0, 0, time.UTC).Add(sinceMidnight)
	near := time.Date(reading.Year(), reading.Month(), reading.Day(), reading.Hour(), reading.Minute(), reading.Second(), 0, zone)
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
