package window

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Hours are a part of each day that counts, by the clock. To at or before From is on
// the next day.
type Hours struct{ From, To time.Duration }

const wholeDay = 24 * time.Hour

// ParseHours reads 08:00-20:00, 22:00-06:00 for a span over midnight, or several such
// spans with commas between them. They come back in the order in which they begin.
func ParseHours(text string) ([]Hours, error) {
	var out []Hours
	for _, part := range strings.Split(text, ",") {
		from, to, ok := strings.Cut(strings.TrimSpace(part), "-")
		a, errA := timeOfDay(from)
		b, errB := timeOfDay(to)
		if !ok || errA != nil || errB != nil || a == b || a == wholeDay {
			return nil, fmt.Errorf("hours %q: write two different times of day, such as 08:00-20:00, 22:00-06:00 for a span over midnight, or several such spans with commas between them",
				text)
		}
		out = append(out, Hours{a, b})
	}
	slices.SortFunc(out, func(a, b Hours) int { return int(a.From - b.From) })
	for i, h := range out {
		next := out[(i+1)%len(out)].From
		if i+1 == len(out) {
			next += wholeDay
		}
		if h.end() > next {
			return nil, fmt.Errorf("hours %q: %s reaches into %s; write spans that do not overlap", text, h,
				out[(i+1)%len(out)])
		}
	}
	return out, nil
}

func timeOfDay(text string) (time.Duration, error) {
	text = strings.TrimSpace(text)
	if text == "24:00" {
		return wholeDay, nil
	}
	t, err := time.Parse("15:04", text)
	return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute, err
}

// overMidnight reports a span that ends on the next day.
func (h Hours) overMidnight() bool { return h.To <= h.From }

// end returns the span's end, counted from the midnight before it begins.
func (h Hours) end() time.Duration {
	if h.overMidnight() {
		return h.To + wholeDay
	}
	return h.To
}

// String returns the text ParseHours reads.
func (h Hours) String() string {
	show := func(d time.Duration) string { return fmt.Sprintf("%02d:%02d", d/time.Hour, d%time.Hour/time.Minute) }
	return show(h.From) + "-" + show(h.To)
}

// Days are days of the week, a bit each from Sunday on; 0 is every day.
type Days uint8

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ParseDays reads a list of days and spans of them, such as mon-fri or sat,sun.
func ParseDays(text string) (Days, error) {
	var out Days
	for _, part := range strings.Split(text, ",") {
		from, to, isSpan := strings.Cut(strings.TrimSpace(part), "-")
		if !isSpan {
			to = from
		}
		a, b := dayOf(from), dayOf(to)
		if a < 0 || b < 0 {
			return 0, fmt.Errorf("days %q: write days of the week or spans of them, such as mon-fri or sat,sun", text)
		}
		for d := a; ; d = (d + 1) % 7 {
			out |= 1 << d
			if d == b {
				break
			}
		}
	}
	return out, nil
}

func dayOf(name string) int {
	for i, known := range dayNames {
		if strings.EqualFold(known, name) {
			return i
		}
	}
	return -1
}

func (d Days) has(day time.Weekday) bool { return d == 0 || d>>day&1 != 0 }

// String returns a list that ParseDays reads, from Monday on.
func (d Days) String() string {
	var out []string
	for i := range 7 {
		if day := (i + 1) % 7; d>>day&1 != 0 {
			out = append(out, dayNames[day])
		}
	}
	return strings.Join(out, ",")
}

// Dates are days of the calendar, such as holidays: midnights as the clock reads them.
type Dates map[time.Time]bool

const mostDates = 2000

// ParseDates reads a list of dates and of spans of them, such as
// 2026-12-24,2026-12-27..2026-12-31.
func ParseDates(text string) (Dates, error) {
	out := Dates{}
	for _, part := range strings.Split(text, ",") {
		from, to, isSpan := strings.Cut(strings.TrimSpace(part), "..")
		if !isSpan {
			to = from
		}
		a, errA := time.Parse(time.DateOnly, from)
		b, errB := time.Parse(time.DateOnly, to)
		if errA == nil && errB == nil && b.Before(a) {
			return nil, fmt.Errorf("except %q: the span ends before it begins; write the earlier date first", part)
		}
		if errA != nil || errB != nil {
			return nil, fmt.Errorf("except %q: write dates and spans of them, such as 2026-12-24,2026-12-27..2026-12-31",
				part)
		}
		for ; !a.After(b); a = a.AddDate(0, 0, 1) {
			if out[a] = true; len(out) > mostDates {
				return nil, fmt.Errorf("except: more than %d days are named", mostDates)
			}
		}
	}
	return out, nil
}
