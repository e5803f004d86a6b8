package payload

import (
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"strings"
	"time"

	"github.com/itchyny/timefmt-go"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/span"
	"nexocumula/internal/plain"
)

// timeKeys say when a payload says that it was measured.
type timeKeys struct {
	Time      string `yaml:"time" is:"arrival" says:"where the time stands"`
	TimeOfDay string `yaml:"time_of_day" says:"place of the time of day, if time is only a date; time_form then describes both with a blank between"`
	TimeForm  string `yaml:"time_form" is:"rfc3339" says:"or unix_s, unix_ms, unix_us, unix_ns; uptime_s, uptime_ms since the device's start, with clock; or a layout in the letters of C's strftime, such as \"%d.%m.%Y %H:%M:%S\""`
	TimeZone  string `yaml:"time_zone" is:"UTC" says:"of a layout that says none itself, such as Europe/Berlin"`
	Clock     string `yaml:"clock" says:"where the payload says what the device's clock showed as it was sent"`
	Tolerance string `yaml:"clock_tolerance" is:"1m" says:"by how much that may differ from the arrival before it is reported"`
	Correct   bool   `yaml:"correct_clock" is:"false" says:"true moves the times of such a payload by what its clock is off as it arrives; one that a broker kept meanwhile is moved by that time too"`
	Offset    string `yaml:"clock_offset" says:"station/quantity of a series for what the clock is ahead, in s, so that times that were moved can be moved back"`
}

// when is the time of measurement as a payload gives it.
type when struct {
	at        int64 // by the device's clock, nanoseconds since 1970
	shown     int64 // what that clock showed as the payload was sent; 0: not known
	uptime    bool  // the clock counts from the device's start
	relative  bool  // at is counted from the arrival
	tolerance time.Duration
	correct   bool
}

// time returns when it was measured, given when it arrived; off is by how much the device's
// clock is ahead, when that is worth telling.
func (w *when) time(arrived int64) (at int64, off time.Duration) {
	switch {
	case w.relative:
		return arrived + w.at, 0
	case w.shown == 0 && !w.uptime:
		return w.at, 0
	}
	ahead := w.ahead(arrived)
	switch {
	case w.uptime:
		return w.at - int64(ahead), 0
	case ahead.Abs() <= w.tolerance:
		return w.at, 0
	case w.correct:
		return w.at - int64(ahead), ahead
	}
	return w.at, ahead
}

// ahead returns how far the device's clock is ahead of the arrival.
func (w *when) ahead(arrived int64) time.Duration { return time.Duration(w.shown - arrived) }

// absolute reports whether the payload alone says when.
func (w *when) absolute() bool { return w != nil && !w.relative && !w.uptime }

// clock reads times as the configuration says.
type clock struct {
	time, shown string // places
	ofDay       string // place; "": the time is at one place
	form        func(v any) (int64, error)
	like        when
	offset      int // the field of what the clock is off; noField: nobody wants to know
}

func (k timeKeys) clock(at shape.Place, f *fields, place func(at shape.Place, text string) string) clock {
	out := clock{
		offset: noField,
		like:   when{tolerance: at.Key("clock_tolerance").Duration(k.Tolerance, time.Minute), correct: k.Correct},
	}
	if k.Time != "" {
		out.time, f.ownTimes = place(at.Key("time"), k.Time), true
	}
	if k.Clock != "" {
		out.shown = place(at.Key("clock"), k.Clock)
	}
	if k.TimeOfDay != "" {
		out.ofDay = place(at.Key("time_of_day"), k.TimeOfDay)
		if !strings.Contains(k.TimeForm, "%") {
			at.Key("time_form").Wrong("of a date and a time of day, say how they are written, such as \"%%d.%%m.%%Y %%H:%%M:%%S\"")
		}
	}
	zone := k.TimeZone
	if _, err := plain.Zone(zone); err != nil {
		at.Key("time_zone").Wrong("%v", err)
		zone = ""
	}
	out.form = shape.Parsed(at.Key("time_form"), k.TimeForm,
		func(form string) (func(any) (int64, error), error) { return Times(form, zone) })
	out.like.uptime = strings.HasPrefix(k.TimeForm, "uptime")
	switch {
	case k.Time == "" && (k.TimeForm != "" || k.Clock != "" || k.TimeOfDay != ""):
		at.Key("time").Wrong("time_form, time_of_day and clock say how to read a time; say with time: where it stands")
	case out.like.uptime && k.Clock == "":
		at.Key("clock").Wrong("%s counts from the device's start; say with clock: where the payload says how long it runs as it sends",
			k.TimeForm)
	case k.Offset != "" && k.Clock == "":
		at.Key("clock").Wrong("to measure a clock, say with clock: where the payload says what it shows as it sends")
	case k.Correct && k.Clock == "":
		at.Key("clock").Wrong("to correct a clock, say with clock: where the payload says what it shows as it sends")
	}
	return out
}

// watch adds the series of what the clock is off, behind all other fields.
func (c *clock) watch(at shape.Place, f *fields, series string) {
	if series != "" {
		c.offset = f.addAs(at.Key("clock_offset"), fieldKeys{Series: series})
	}
}

// tell is the value of that series, if there is one.
func (c *clock) tell(w *when, names []string, emit func(value)) {
	if c.offset != noField {
		emit(value{field: c.offset, names: names, when: w, offset: true})
	}
}

var counted = map[string]int64{
	"unix_s":    1e9,
	"unix_ms":   1e6,
	"unix_us":   1e3,
	"unix_ns":   1,
	"uptime_s":  1e9,
	"uptime_ms": 1e6,
}

// Times reads times as a time_form and a time_zone say, both of which may be empty:
// nanoseconds since 1970, or since a device's start.
func Times(form, in string) (func(any) (int64, error), error) {
	if unit, ok := counted[form]; ok {
		return func(v any) (int64, error) { return countedTime(v, form, unit) }, nil
	}
	zone, err := plain.Zone(in)
	switch {
	case err != nil:
		return nil, err
	case form == "" || form == "rfc3339":
		return func(v any) (int64, error) {
			return textTime(v, "an RFC 3339 time such as 2026-03-01T08:00:00Z",
				func(text string) (time.Time, error) { return time.Parse(time.RFC3339Nano, text) })
		}, nil
	case strings.Contains(form, "%"):
		sample := timefmt.Format(time.Date(2026, 3, 1, 8, 0, 0, 0, zone), form)
		if _, err := timefmt.ParseInLocation(sample, form, zone); err != nil {
			return nil, fmt.Errorf("the layout %q cannot be read back: %v", form, err)
		}
		return func(v any) (int64, error) {
			return textTime(v, "a time such as "+sample,
				func(text string) (time.Time, error) { return layoutTime(text, form, zone) })
		}, nil
	}
	return nil, fmt.Errorf("time form %q is not known; use rfc3339, unix_s, unix_ms, unix_us, unix_ns, uptime_s, uptime_ms, or a layout such as \"%%d.%%m.%%Y %%H:%%M:%%S\"",
		form)
}

// layoutTime refuses days that a month does not have: the package counts on into the next.
func layoutTime(text, layout string, zone *time.Location) (time.Time, error) {
	t, err := timefmt.ParseInLocation(text, layout, zone)
	if err == nil && !strings.EqualFold(bare.Replace(text), bare.Replace(timefmt.Format(t, layout))) {
		err = fmt.Errorf("there is no such day")
	}
	return t, err
}

// bare leaves out what a time may be written with or without.
var bare = strings.NewReplacer("0", "", " ", "", ":", "", "+", "", "Z", "", "z", "")

// read returns nil when the payload says no time.
func (c clock) read(find func(place string) (any, error)) (*when, error) {
	if c.time == "" {
		return nil, nil
	}
	out := c.like
	var err error
	if out.at, err = c.one(c.time, c.whole(find)); err != nil {
		return nil, err
	}
	if c.shown != "" {
		if out.shown, err = c.one(c.shown, find); err != nil {
			return nil, err
		}
	}
	return &out, nil
}

// whole finds a time that stands at two places as one text.
func (c clock) whole(find func(place string) (any, error)) func(place string) (any, error) {
	if c.ofDay == "" {
		return find
	}
	return func(place string) (any, error) {
		date, err := find(place)
		if err != nil {
			return nil, err
		}
		ofDay, err := find(c.ofDay)
		if err != nil {
			return nil, err
		}
		day, ok := textIn(date)
		hour, good := textIn(ofDay)
		if !ok || !good {
			return nil, fmt.Errorf("%s and %s are no date and time of day", describe(date), describe(ofDay))
		}
		return strings.TrimSpace(day) + " " + strings.TrimSpace(hour), nil
	}
}

func (c clock) one(place string, find func(place string) (any, error)) (int64, error) {
	v, err := find(place)
	if err != nil {
		return 0, fmt.Errorf("the time at %s: %w", place, err)
	}
	at, err := c.form(v)
	if err != nil {
		return 0, fmt.Errorf("the time at %s: %w", place, err)
	}
	return at, nil
}

func textTime(v any, such string, parse func(string) (time.Time, error)) (int64, error) {
	if t, ok := v.(time.Time); ok {
		return within(t)
	}
	text, ok := v.(string)
	if !ok {
		return 0, fmt.Errorf("%s where %s should be", describe(v), such)
	}
	t, err := parse(strings.TrimSpace(text))
	if err != nil {
		return 0, fmt.Errorf("%q where %s should be", clip(text), such)
	}
	return within(t)
}

func within(t time.Time) (int64, error) {
	if t.Year() < 1678 || t.Year() > 2261 {
		return 0, fmt.Errorf("the year %d cannot be", t.Year())
	}
	return t.UnixNano(), nil
}

// countedTime reads a number of units since 1970, or since a device's start, exactly.
func countedTime(v any, form string, unit int64) (int64, error) {
	at, ok := countedTimeOf(v, unit)
	if !ok {
		return 0, fmt.Errorf("%s where a time in %s should be", describe(v), form)
	}
	return at, nil
}

func countedTimeOf(v any, unit int64) (at int64, ok bool) {
	var text string
	switch v := v.(type) {
	case time.Time:
		at, err := within(v)
		return at, err == nil
	case json.Number:
		text = v.String()
	case string:
		text = v
	case float64:
		whole, frac := math.Modf(v)
		if math.IsNaN(v) || math.Abs(whole) >= float64(math.MaxInt64/unit) {
			return 0, false
		}
		nanos := math.Round(frac * float64(unit))
		if math.Abs(whole)*float64(unit) > 1<<53 { // a float64 has no more of it than microseconds
			nanos = 1000 * math.Round(nanos/1000)
		}
		return int64(whole)*unit + int64(nanos), true
	case int64:
		if v > math.MaxInt64/unit || v < math.MinInt64/unit {
			return 0, false
		}
		return v * unit, true
	default:
		return 0, false
	}
	if len(text) > 40 || !numeral.MatchString(text) || strings.ContainsAny(text, "eE") && len(text) > 25 {
		return 0, false
	}
	exact, _, err := big.ParseFloat(text, 10, 128, big.ToNearestEven)
	if err != nil {
		return 0, false
	}
	exact.Mul(exact, new(big.Float).SetInt64(unit)).Add(exact, big.NewFloat(math.Copysign(0.5, float64(exact.Sign()))))
	n, _ := exact.Int64()
	if n == math.MaxInt64 || n == math.MinInt64 {
		return 0, false
	}
	return n, true
}

// offBy is for people how much a clock is ahead or behind.
func offBy(ahead time.Duration) string {
	if ahead < 0 {
		return span.Format((-ahead).Round(time.Second)) + " behind"
	}
	return span.Format(ahead.Round(time.Second)) + " ahead"
}
