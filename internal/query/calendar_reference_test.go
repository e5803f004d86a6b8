package query

import (
	"slices"
	"time"
)

// The reference's calendar knows of a zone only what its clocks show at a moment, and
// looks for everything else.

// shown returns the local clock's display as if it were UTC.
func shown(at time.Time, zone *time.Location) time.Time {
	at = at.In(zone)
	return time.Date(at.Year(), at.Month(), at.Day(), at.Hour(), at.Minute(), at.Second(), at.Nanosecond(), time.UTC)
}

// moment returns the first at which the clocks show a reading, or the first after which they
// show a later one without ever having shown it.
func moment(reading time.Time, zone *time.Location) time.Time {
	for offset := 14 * time.Hour; offset >= -12*time.Hour; offset -= 30 * time.Minute {
		if at := reading.Add(-offset); shown(at, zone).Equal(reading) {
			return at
		}
	}
	for offset := 14*time.Hour - 15*time.Minute; offset >= -12*time.Hour; offset -= 30 * time.Minute { // as in Nepal
		if at := reading.Add(-offset); shown(at, zone).Equal(reading) {
			return at
		}
	}
	at := reading.Truncate(time.Minute).Add(-16 * time.Hour)
	for !shown(at, zone).After(reading) {
		at = at.Add(time.Minute)
	}
	return at
}

// asWritten is a query's calendar, as a person would write it.
type asWritten struct {
	zone          *time.Location
	width, stride string // of the table below; "" is the whole range
	origin        time.Time
	byClock       bool
	clipped       bool
	hours         [][2]int // minutes of the day
	days          []time.Weekday
	except        []time.Time // midnights, as the clocks show them
	fold          string
}

// lengths are steps as so many months, days or seconds.
var lengths = map[string][3]int{
	"1m": {0, 0, 60}, "2m": {0, 0, 120}, "3m": {0, 0, 180}, "5m": {0, 0, 300}, "7m": {0, 0, 420}, "10m": {0, 0, 600}, "15m": {0, 0, 900}, "30m": {0, 0, 1800}, "1h": {0, 0, 3600}, "6h": {0, 0, 21600}, "12h": {0, 0, 43200},
	"1d": {0, 1, 0}, "2d": {0, 2, 0}, "1w": {0, 7, 0}, "1mo": {1, 0, 0},
}

func add(from time.Time, step string, n int) time.Time {
	l := lengths[step]
	if l[0] > 0 {
		day := from.Day()
		first := time.Date(from.Year(), from.Month()+time.Month(n*l[0]), 1, from.Hour(), from.Minute(), from.Second(),
			from.Nanosecond(), time.UTC)
		for day > 28 && first.AddDate(0, 0, day-1).Month() != first.Month() {
			day--
		}
		return first.AddDate(0, 0, day-1)
	}
	return from.AddDate(0, 0, n*l[1]).Add(time.Duration(n*l[2]) * time.Second)
}

func fixedLength(step string) bool { return lengths[step][2] > 0 }

// frames walks over all windows around the range and keeps those of it.
func (w asWritten) frames(from, to time.Time) (out []frame) {
	var all []stretch
	if w.width == "" {
		all = []stretch{{from.UnixNano(), to.UnixNano()}}
	} else {
		all = w.windows(from, to)
	}
	limited := w.hours != nil || w.days != nil || w.except != nil
	var counting []stretch
	if limited && len(all) > 0 {
		span := all[0]
		for _, s := range all {
			span.to = max(span.to, s.to)
		}
		counting = w.counting(span)
	}
	for _, s := range all {
		if w.clipped {
			s.from, s.to = max(s.from, from.UnixNano()), min(s.to, to.UnixNano())
		}
		if s.from >= s.to {
			continue
		}
		f := frame{from: s.from, of: []stretch{s}}
		if limited {
			f.of = within(counting, s)
		}
		if len(f.of) > 0 {
			out = append(out, f)
		}
	}
	if w.fold == "" {
		return out
	}
	return w.folded(out)
}

func (w asWritten) windows(from, to time.Time) (all []stretch) {
	stride := w.stride
	byClock := !fixedLength(stride) || w.byClock
	origin := shown(w.origin, w.zone)
	if w.origin.IsZero() {
		origin = time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC)
		if stride == "1w" {
			origin = origin.AddDate(0, 0, 4)
		}
		if n := len(w.hours); n > 0 && w.hours[n-1][1] <= w.hours[n-1][0] && !fixedLength(stride) {
			origin = origin.Add(time.Duration(w.hours[n-1][0]) * time.Minute)
		}
	}
	start := func(n int) time.Time {
		switch {
		case byClock:
			return moment(add(origin, stride, n), w.zone)
		case w.origin.IsZero():
			return add(time.Unix(0, 0).UTC(), stride, n)
		}
		return add(w.origin.UTC(), stride, n)
	}
	end := func(n int) time.Time {
		switch {
		case w.width == stride:
			return start(n + 1)
		case fixedLength(w.width) && !w.byClock:
			return add(start(n), w.width, 1)
		case byClock:
			return moment(add(add(origin, stride, n), w.width, 1), w.zone)
		}
		return moment(add(shown(start(n), w.zone), w.width, 1), w.zone)
	}
	l := lengths[stride]
	seconds := int64(l[0]*31*86400 + l[1]*86400 + l[2])
	n := int((from.Unix()-origin.Unix())/seconds-15*3600/seconds) - 3
	for !start(n + 1).After(from) {
		n++
	}
	for ; start(n).Before(to); n++ {
		all = append(all, stretch{start(n).UnixNano(), end(n).UnixNano()})
	}
	return all
}

// within returns the parts of stretches that lie in a window.
func within(all []stretch, s stretch) (out []stretch) {
	for _, one := range all {
		if a, b := max(one.from, s.from), min(one.to, s.to); a < b {
			out = append(out, stretch{a, b})
		}
	}
	return out
}

// counting returns the parts of a span in the hours and days that count.
func (w asWritten) counting(s stretch) (out []stretch) {
	hours := w.hours
	if hours == nil {
		hours = [][2]int{{0, 1440}}
	}
	first := shown(time.Unix(0, s.from), w.zone).Truncate(24*time.Hour).AddDate(0, 0, -2)
	for day := first; day.Before(shown(time.Unix(0, s.to), w.zone).AddDate(0, 0, 2)); day = day.AddDate(0, 0, 1) {
		if w.days != nil && !slices.Contains(w.days, day.Weekday()) || slices.ContainsFunc(w.except, day.Equal) {
			continue
		}
		for _, h := range hours {
			until := h[1]
			if until <= h[0] {
				until += 1440
			}
			a := moment(day.Add(time.Duration(h[0])*time.Minute), w.zone).UnixNano()
			b := moment(day.Add(time.Duration(until)*time.Minute), w.zone).UnixNano()
			a, b = max(a, s.from), min(b, s.to)
			if a >= b {
				continue
			}
			if k := len(out); k > 0 && out[k-1].to >= a {
				out[k-1].to = max(out[k-1].to, b)
				continue
			}
			out = append(out, stretch{a, b})
		}
	}
	return out
}

func (w asWritten) folded(frames []frame) (out []frame) {
	for _, f := range frames {
		at := time.Unix(0, f.from).In(w.zone)
		place := at.Format("15:04")
		if w.fold == "week" {
			place = at.Format("Mon 15:04")
			if w.width == "1d" {
				place = at.Format("Mon")
			}
		}
		i := slices.IndexFunc(out, func(o frame) bool { return o.place == place })
		if i < 0 {
			f.place = place
			out = append(out, f)
			continue
		}
		out[i].of = append(out[i].of, f.of...)
	}
	return out
}
