package config

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
)

// Limits say how much of a link an uplink may use. The zero value is no limit.
type Limits struct {
	Rate      float64           // bytes a second, sent and received; 0: any
	PerDay    uint64            // bytes; 0: any
	PerMonth  uint64            // bytes; 0: any
	Every     time.Duration     // at least from one batch to the next; 0: at once
	Backlog   *Hours            // when what waited may go; nil: always
	Important []series.Selector // goes when nothing else may any more
}

// Any reports whether there is a limit.
func (l *Limits) Any() bool {
	return l.Rate > 0 || l.PerDay > 0 || l.PerMonth > 0 || l.Every > 0 || l.Backlog != nil
}

// Hours are some of each day, in minutes after midnight; over midnight when From is later than To.
type Hours struct{ From, To int }

// In reports whether a time of day is within them.
func (h Hours) In(at time.Time) bool {
	minute := at.Hour()*60 + at.Minute()
	if h.From <= h.To {
		return minute >= h.From && minute < h.To
	}
	return minute >= h.From || minute < h.To
}

type limitsFile struct {
	Rate      string   `yaml:"rate" is:"any" says:"bits a second, sent and received, such as 64 kbit"`
	PerDay    string   `yaml:"per_day" is:"any" says:"bytes a day, such as 5MB"`
	PerMonth  string   `yaml:"per_month" is:"any" says:"bytes a month, such as 100MB"`
	Every     string   `yaml:"every" is:"at once" says:"at least from one batch to the next, such as 1m: larger batches need fewer bytes"`
	Backlog   string   `yaml:"backlog" is:"always" says:"when what waited may go, by the clocks of zone:, such as 22:00-06:00"`
	Important []string `yaml:"important" is:"nothing" says:"selectors of series of which the present still goes when the day or the month is used up"`
}

const (
	leastPerDay = 100 << 10
	mostEvery   = time.Hour
)

func (raw *limitsFile) check(at shape.Place) (out Limits) {
	if raw == nil {
		return out
	}
	if raw.Rate != "" {
		out.Rate = shape.Parsed(at.Key("rate"), raw.Rate, parseRate)
	}
	for _, one := range []struct {
		key, text string
		into      *uint64
	}{{"per_day", raw.PerDay, &out.PerDay}, {"per_month", raw.PerMonth, &out.PerMonth}} {
		if one.text == "" {
			continue
		}
		n, err := humanize.ParseBytes(one.text)
		if err != nil || n < leastPerDay {
			at.Key(one.key).Wrong("%q is not possible; write a size of at least %s, such as 5MB", one.text, humanize.Bytes(leastPerDay))
		}
		*one.into = n
	}
	if raw.Every != "" {
		out.Every = at.Key("every").Within(raw.Every, 0, time.Second, mostEvery)
	}
	if raw.Backlog != "" {
		hours := shape.Parsed(at.Key("backlog"), raw.Backlog, parseHours)
		out.Backlog = &hours
	}
	for i, text := range raw.Important {
		out.Important = append(out.Important, shape.Parsed(at.Key("important").Item(i), text, series.ParseSelector))
	}
	return out
}

var rateForm = regexp.MustCompile(`^(\d+(?:\.\d+)?)\s*([kM]?)bit(?:/s)?$`)

// parseRate reads bits a second, and returns bytes.
func parseRate(text string) (float64, error) {
	m := rateForm.FindStringSubmatch(text)
	if m == nil {
		return 0, fmt.Errorf("%q is not possible; write bits a second, such as 64 kbit", text)
	}
	n, err := strconv.ParseFloat(m[1], 64)
	n *= map[string]float64{"": 1, "k": 1e3, "M": 1e6}[m[2]] / 8
	if err != nil || n < 100 {
		return 0, fmt.Errorf("%q is not possible; the least is 800 bit", text)
	}
	return n, nil
}

// parseHours reads hours such as 22:00-06:00.
func parseHours(text string) (out Hours, err error) {
	first, last, ok := strings.Cut(text, "-")
	for _, one := range []struct {
		text string
		into *int
	}{{first, &out.From}, {last, &out.To}} {
		at, err := time.Parse("15:04", strings.TrimSpace(one.text))
		if err != nil || !ok {
			return out, fmt.Errorf("%q is not possible; write hours such as 22:00-06:00", text)
		}
		*one.into = at.Hour()*60 + at.Minute()
	}
	if out.From == out.To {
		return out, fmt.Errorf("%q begins when it ends", text)
	}
	return out, nil
}
