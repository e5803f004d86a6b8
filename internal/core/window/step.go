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
	if err != nil && strings.Trim(digits, "0123456789") == "" && digits != "" || n > 1e9 {
		return Step{}, fmt.Errorf("%q is too long; at most 1000 of the calendar's units, or 1000000000 of the others, are possible",
			text)
	}
	if err != nil || n < 1 {
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

// String returns the text ParseStep reads.
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

// About returns the step's length, of months and days with daylight saving on average.
func (s Step) About() time.Duration {
	const longest = 290 * 365 * 24 * float64(time.Hour) // there is no room for more
	months := min(longest, float64(s.Months)*30.436875*24*float64(time.Hour))
	return s.Fixed + time.Duration(s.Days)*24*time.Hour + time.Duration(months)
}

// From returns the time n steps after origin, by the clocks of origin's zone unless the step's
// length is fixed.
func (s Step) From(origin time.Time, n int) time.Time {
	if s.Fixed > 0 {
		return origin.Add(time.Duration(n) * s.Fixed)
	}
	return when(s.after(reading(origin), n), origin.Location())
}

// after returns the reading n steps after another; of months that have no such day, on their
// last.
func (s Step) after(from time.Time, n int) time.Time {
	if s.Months == 0 {
		return from.AddDate(0, 0, n*s.Days).Add(time.Duration(n) * s.Fixed)
	}
	year, month, day := from.Date()
	first := midnight(year, month+time.Month(n*s.Months), 1)
	last := first.AddDate(0, 1, -1).Day()
	return first.AddDate(0, 0, min(day, last)-1).Add(from.Sub(midnight(year, month, day)))
}
