package window

import (
	"fmt"
	"strings"
	"time"
)

// Hours are the part of each day that counts, by the clock. To at or before From is on
// the next day.
type Hours struct{ From, To time.Duration }

// ParseHours reads 08:00-20:00, or 22:00-06:00 for a span over midnight.
func ParseHours(text string) (Hours, error) {
	from, to, ok := strings.Cut(text, "-")
	a, errA := timeOfDay(from)
	b, errB := timeOfDay(to)
	if !ok || errA != nil || errB != nil || a == b || a == 24*time.Hour {
		return Hours{}, fmt.Errorf("hours %q: write two different times of day, such as 08:00-20:00, or 22:00-06:00 for a span over midnight", text)
	}
	return Hours{a, b}, nil
}

func timeOfDay(text string) (time.Duration, error) {
	text = strings.TrimSpace(text)
	if text == "24:00" {
		return 24 * time.Hour, nil
	}
	t, err := time.Parse("15:04", text)
	return time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute, err
}

// overMidnight reports a span that ends on the next day.
func (h Hours) overMidnight() bool { return h.To <= h.From }

// String is the text ParseHours reads.
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

// String is a list that ParseDays reads, from Monday on.
func (d Days) String() string {
	var out []string
	for i := range 7 {
		if day := (i + 1) % 7; d>>day&1 != 0 {
			out = append(out, dayNames[day])
		}
	}
	return strings.Join(out, ",")
}
