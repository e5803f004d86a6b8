package window

import (
	"fmt"
	"strings"
	"time"
)

// Range is from <= time < to.
type Range struct {
	From, To time.Time
	Exact    bool // neither end is now
}

// Earliest and Latest bound the times a query may be about.
var (
	Earliest = time.Date(1971, 1, 1, 0, 0, 0, 0, time.UTC)
	Latest   = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC)
)

var periods = []string{
	"today", "yesterday", "this week", "last week", "this month", "last month", "this year", "last year",
}

// ParseRange reads a range by its name: last and a duration, today, yesterday, and this
// or last week (from Monday on), month or year. Days begin by the clocks of now's zone;
// what is not over ends now. A hyphen may stand for the space.
func ParseRange(text string, now time.Time) (Range, error) {
	text = strings.ReplaceAll(strings.TrimSpace(text), "-", " ")
	year, month, day := now.Date()
	begin := func(year int, month time.Month, day int) time.Time {
		return when(midnight(year, month, day), now.Location())
	}
	monday := day - (int(now.Weekday())+6)%7
	switch text {
	case "today":
		return Range{From: begin(year, month, day), To: now}, nil
	case "yesterday":
		return Range{From: begin(year, month, day-1), To: begin(year, month, day), Exact: true}, nil
	case "this week":
		return Range{From: begin(year, month, monday), To: now}, nil
	case "last week":
		return Range{From: begin(year, month, monday-7), To: begin(year, month, monday), Exact: true}, nil
	case "this month":
		return Range{From: begin(year, month, 1), To: now}, nil
	case "last month":
		return Range{From: begin(year, month-1, 1), To: begin(year, month, 1), Exact: true}, nil
	case "this year":
		return Range{From: begin(year, 1, 1), To: now}, nil
	case "last year":
		return Range{From: begin(year-1, 1, 1), To: begin(year, 1, 1), Exact: true}, nil
	}
	if length, ok := strings.CutPrefix(text, "last "); ok {
		r, err := ParseLast(length, now)
		if err != nil {
			return r, fmt.Errorf("range %q: after last comes a duration, such as last 24h, or a week, month or year of the calendar; the day before today is yesterday",
				text)
		}
		return r, nil
	}
	return Range{}, fmt.Errorf("range %q: use last and a duration, such as last 24h, or %s", text,
		strings.Join(periods, ", "))
}

// ParseLast reads how long a range up to now is.
func ParseLast(length string, now time.Time) (Range, error) {
	if strings.HasPrefix(length, "-") {
		return Range{}, fmt.Errorf("last %q: the length counts back from now by itself; write it without a sign, such as last=%s",
			length, strings.TrimLeft(length, "-"))
	}
	step, err := ParseStep(length)
	if err != nil {
		return Range{}, fmt.Errorf("last %w", err)
	}
	return Range{From: step.From(now, -1), To: now}, nil
}

// ParseTime reads an RFC 3339 time, or by the clocks of a zone a date with or without a
// time of day. Where the clocks show that twice, it is the first time; where never, the
// moment at which they are set ahead past it.
func ParseTime(text string, zone *time.Location) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339Nano, text); err == nil {
		return t, nil
	}
	for _, form := range []string{
		"2006-01-02", "2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02 15:04:05", "2006-01-02T15:04:05",
	} {
		if t, err := time.Parse(form, text); err == nil {
			return when(t, zone), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time; write a date such as 2026-03-01, a time by the zone's clocks such as 2026-03-01 08:00, or an RFC 3339 time such as 2026-03-01T08:00:00Z",
		text)
}

// Check reports a range without any time in it, or beyond what can be asked for.
func (r Range) Check() error {
	switch {
	case !r.Exact && !r.From.Before(r.To):
		return fmt.Errorf("from %s is not over yet, and without to the range ends now, at %s; give an earlier from, or to as well",
			r.From.Format(time.RFC3339), r.To.UTC().Format(time.RFC3339))
	case r.From.After(r.To):
		return fmt.Errorf("range is reversed: from %s is after to %s; exchange the two", r.From.Format(time.RFC3339),
			r.To.Format(time.RFC3339))
	case !r.From.Before(r.To):
		return fmt.Errorf("range is empty: from and to are both %s; to is not part of the range, so it must be later",
			r.From.Format(time.RFC3339))
	case r.From.Before(Earliest) || r.To.After(Latest):
		return fmt.Errorf("range %s to %s is not within the years %d to %d", r.From.Format(time.RFC3339),
			r.To.Format(time.RFC3339), Earliest.Year(), Latest.Year())
	}
	return nil
}

// widened returns the range in whole units of a tier.
func (r Range) widened(unit time.Duration) Range {
	from, to := r.From.Truncate(unit), r.To.Truncate(unit)
	if to.Before(r.To) {
		to = to.Add(unit)
	}
	return Range{From: from, To: to}
}

// Fitting returns the narrowest usual width that cuts the range into at most 400.
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
