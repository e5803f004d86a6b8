package window

import (
	"fmt"
	"strings"
	"time"
)

// Range is from <= time < to.
type Range struct {
	From, To time.Time
	Exact    bool // both ends were given as times, and not by the clock of the asker
}

// Earliest and Latest bound the times a query may be about.
var (
	Earliest = time.Date(1971, 1, 1, 0, 0, 0, 0, time.UTC)
	Latest   = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC)
)

var periods = []string{"today", "yesterday", "this week", "this month", "this year"}

// ParseRange reads a range by its name: last and a duration, today, yesterday, this
// week (from Monday on), this month or this year. Days begin by the clocks of now's
// zone; what is not over ends now. A hyphen may stand for the space.
func ParseRange(text string, now time.Time) (Range, error) {
	text = strings.ReplaceAll(strings.TrimSpace(text), "-", " ")
	if length, ok := strings.CutPrefix(text, "last "); ok {
		return lastOf(length, now)
	}
	year, month, day := now.Date()
	midnight := func(month time.Month, day int) time.Time { return clock(year, month, day, 0, now.Location()) }
	switch text {
	case "today":
		return Range{From: midnight(month, day), To: now}, nil
	case "yesterday":
		return Range{From: midnight(month, day-1), To: midnight(month, day), Exact: true}, nil
	case "this week":
		return Range{From: midnight(month, day-(int(now.Weekday())+6)%7), To: now}, nil
	case "this month":
		return Range{From: midnight(month, 1), To: now}, nil
	case "this year":
		return Range{From: midnight(1, 1), To: now}, nil
	}
	return Range{}, fmt.Errorf("range %q: use last and a duration, such as last 24h, or %s", text, strings.Join(periods, ", "))
}

func lastOf(length string, now time.Time) (Range, error) {
	step, err := ParseStep(length)
	if err != nil {
		return Range{}, fmt.Errorf("last: %w", err)
	}
	from := step.From(now, -1)
	if step.Fixed == 0 { // From knows whole seconds only
		from = from.Add(time.Duration(now.Nanosecond()))
	}
	return Range{From: from, To: now}, nil
}

// Check reports a range without any time in it, or beyond what can be asked for.
func (r Range) Check() error {
	switch {
	case r.From.After(r.To):
		return fmt.Errorf("range is reversed: from %s is after to %s; exchange the two", r.From.Format(time.RFC3339), r.To.Format(time.RFC3339))
	case !r.From.Before(r.To):
		return fmt.Errorf("range is empty: from and to are both %s; to is not part of the range, so it must be later", r.From.Format(time.RFC3339))
	case r.From.Before(Earliest) || r.To.After(Latest):
		return fmt.Errorf("range %s to %s is not within the years %d to %d", r.From.Format(time.RFC3339), r.To.Format(time.RFC3339), Earliest.Year(), Latest.Year())
	}
	return nil
}

// widened is the range in whole units of a tier.
func (r Range) widened(unit time.Duration) Range {
	from, to := r.From.Truncate(unit), r.To.Truncate(unit)
	if to.Before(r.To) {
		to = to.Add(unit)
	}
	return Range{From: from, To: to}
}

// Fitting is the narrowest usual width that cuts the range into at most 400.
func (r Range) Fitting() Step {
	length := r.To.Sub(r.From)
	for _, text := range []string{"10s", "30s", "1m", "5m", "15m", "30m", "1h", "3h", "6h", "12h", "1d"} {
		step, err := ParseStep(text)
		if err == nil && length <= 400*step.About() {
			return step
		}
	}
	return Step{Days: 7}
}
