package payload

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// guessedTime is how a text is a time.
type guessedTime struct {
	form  string // as time_form says it; rfc3339 too
	zone  string // as time_zone says it; "": the text says it, or UTC
	doubt string
}

// writings are how people and devices write times, apart from RFC 3339.
var writings = []struct {
	like   *regexp.Regexp
	layout string
	doubt  string
}{
	{regexp.MustCompile(`^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d$`), "%Y-%m-%d %H:%M:%S", zoneless},
	{regexp.MustCompile(`^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d$`), "%Y-%m-%dT%H:%M:%S", zoneless},
	{regexp.MustCompile(`^\d{4}-\d\d-\d\d \d\d:\d\d$`), "%Y-%m-%d %H:%M", zoneless},
	{regexp.MustCompile(`^\d{4}/\d\d/\d\d \d\d:\d\d:\d\d$`), "%Y/%m/%d %H:%M:%S", zoneless},
	{regexp.MustCompile(`^\d{1,2}\.\d{1,2}\.\d{4} \d{1,2}:\d\d:\d\d$`), "%d.%m.%Y %H:%M:%S", zoneless},
	{regexp.MustCompile(`^\d{1,2}\.\d{1,2}\.\d{4} \d{1,2}:\d\d$`), "%d.%m.%Y %H:%M", zoneless},
	{
		regexp.MustCompile(`^\d{1,2}/\d{1,2}/\d{4} \d{1,2}:\d\d:\d\d [AaPp][Mm]$`), "%m/%d/%Y %I:%M:%S %p",
		"its first number is taken for the month, and its zone for UTC",
	},
	{
		regexp.MustCompile(`^\d{1,2}/\d{1,2}/\d{4} \d{1,2}:\d\d:\d\d$`), "%d/%m/%Y %H:%M:%S",
		"its first number is taken for the day, and its zone for UTC",
	},
	{regexp.MustCompile(`^(19|20)\d{12}$`), "%Y%m%d%H%M%S", zoneless},
}

const zoneless = "its time says no zone, and is taken for UTC"

// zoneNames lists zones that texts call by a short name, which is the same all the year.
var zoneNames = map[string]string{
	"UTC":  "UTC",
	"GMT":  "UTC",
	"CET":  "Etc/GMT-1",
	"CEST": "Etc/GMT-2",
	"EET":  "Etc/GMT-2",
	"EEST": "Etc/GMT-3",
	"BST":  "Etc/GMT-1",
}

// timeGuess finds out how a text is a time.
func timeGuess(text string) (out guessedTime, ok bool) {
	text = strings.TrimSpace(text)
	if _, err := time.Parse(time.RFC3339, text); err == nil {
		return guessedTime{form: "rfc3339"}, true
	}
	bare, name := text, ""
	if at := strings.LastIndexByte(text, ' '); at > 0 && zoneNames[text[at+1:]] != "" {
		bare, name = text[:at], text[at+1:]
	}
	for _, w := range writings {
		if !w.like.MatchString(bare) {
			continue
		}
		if out = (guessedTime{form: w.layout, doubt: w.doubt}); name != "" {
			out.form, out.zone, out.doubt = w.layout+" "+name, zoneNames[name], "its zone may be called otherwise in summer"
		}
		read, err := Times(out.form, out.zone)
		if err == nil {
			_, err = read(text)
		}
		return out, err == nil
	}
	if form := countedForm(text); form != "" {
		return guessedTime{form: form}, true
	}
	return out, false
}

// countedForm returns the unit in which a number is a time of these years, or "".
func countedForm(text string) string {
	v, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return ""
	}
	for form, scale := range map[string]float64{"unix_s": 1, "unix_ms": 1e3, "unix_us": 1e6, "unix_ns": 1e9} {
		if s := v / scale; s > 1.4e9 && s < 4.2e9 {
			return form
		}
	}
	return ""
}

// keys returns the lines that say how a time is written.
func (t guessedTime) keys() (out []Line) {
	if t.form != "rfc3339" {
		value := t.form
		if strings.Contains(value, "%") {
			value = strconv.Quote(value)
		}
		out = append(out, Line{"time_form", value})
	}
	if t.zone != "" {
		out = append(out, Line{"time_zone", t.zone})
	}
	return out
}

var (
	dateAlone  = regexp.MustCompile(`^(\d{4}-\d\d-\d\d|\d{4}/\d\d/\d\d|\d{1,2}\.\d{1,2}\.\d{4})$`)
	ofDayAlone = regexp.MustCompile(`^\d{1,2}:\d\d(:\d\d)?$`)
)

// whole joins a date and a time of day that stand at two places.
func whole(date, ofDay string) (guessedTime, bool) {
	if !dateAlone.MatchString(strings.TrimSpace(date)) || !ofDayAlone.MatchString(strings.TrimSpace(ofDay)) {
		return guessedTime{}, false
	}
	return timeGuess(strings.TrimSpace(date) + " " + strings.TrimSpace(ofDay))
}

var timeKeyNames = []string{
	"at", "t", "ts", "time", "timestamp", "date", "datetime", "when", "measured_at", "sampled_at", "received_at", "@t",
	"@time", "@at", "@ts", "@timestamp", "sec",
}

func isTimeKey(key string) bool { return slices.Contains(timeKeyNames, strings.ToLower(key)) }
