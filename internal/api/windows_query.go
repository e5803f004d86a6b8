package api

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/core/window"
	"nexocumula/internal/plain"
	"nexocumula/internal/query"
)

// windowsParameters are the parameters of /windows.
var windowsParameters = names{
	"select*", "label*", "from", "to", "last", "range", "zone", "width", "stride", "origin", "by_clock", "edges", "hours", "days", "except*", "fold", "newest",
	"stats", "gaps", "unit*", "shift", "across", "weight", "by", "highest", "lowest", "rank", "then", "input*", "calc*", "explain", "format",
}

// readWindows reads the query's parameters.
func readWindows(c *gin.Context, now time.Time) (q query.Windows, err error) {
	v, err := windowsParameters.read(c)
	if err != nil {
		return q, err
	}
	q.Now = now
	for _, step := range []func(*query.Windows, url.Values, time.Time) error{readWhat, readGrid, readDays, readWhen, readHow, readTogether} {
		if err := step(&q, v, now); err != nil {
			return q, err
		}
	}
	return q, nil
}

// readWhat reads which series.
func readWhat(q *query.Windows, v url.Values, _ time.Time) error {
	for _, text := range v["input"] {
		in, err := query.ParseInput(text)
		if err != nil {
			return err
		}
		q.Inputs = append(q.Inputs, in)
	}
	if len(v["input"])+len(v["calc"]) > 0 {
		for _, other := range []string{"select", "stats", "across", "label"} {
			if v.Get(other) != "" {
				return fmt.Errorf("%s is given beside input and calc, which say which series and stats by themselves; leave it out",
					other)
			}
		}
		if len(q.Inputs) == 0 {
			return fmt.Errorf("input is missing beside calc; name the series a formula is about, such as input=inlet=stony-beck/inlet/flow")
		}
	}
	var err error
	if q.Calculations, err = query.ParseCalculations(v["calc"], q.Inputs); err != nil || len(q.Inputs) > 0 {
		return err
	}
	q.Select, err = readSelectors(v)
	return err
}

// readZone reads the zone whose clocks count.
func readZone(v url.Values) (*time.Location, error) {
	zone, err := plain.Zone(v.Get("zone"))
	if err != nil {
		return nil, fmt.Errorf("zone %w", err)
	}
	return zone, nil
}

// readGrid reads how the range is cut.
func readGrid(q *query.Windows, v url.Values, _ time.Time) (err error) {
	if q.Grid.Zone, err = readZone(v); err != nil {
		return err
	}
	switch text := v.Get("width"); text {
	case "":
		q.Fit = true
	case "whole":
	default:
		if q.Grid.Width, err = window.ParseStep(text); err != nil {
			return fmt.Errorf("width %w; or whole for the range as one window", err)
		}
	}
	if text := v.Get("stride"); text != "" {
		if q.Grid.Stride, err = window.ParseStep(text); err != nil {
			return fmt.Errorf("stride %w", err)
		}
		if q.Fit {
			return fmt.Errorf("stride is given without width; give both, such as width=1h&stride=5m")
		}
	}
	if text := v.Get("origin"); text != "" {
		if q.Grid.Origin, err = readTime("origin", text, q.Grid.Zone); err != nil {
			return err
		}
	}
	if q.Grid.ByClock, err = readBool(v, "by_clock"); err != nil {
		return err
	}
	switch text := v.Get("edges"); text {
	case "", "whole":
	case "clipped":
		q.Grid.Clipped = true
	default:
		return fmt.Errorf("edges %q: use whole, for windows that may reach beyond the range, or clipped, for such that end with it",
			text)
	}
	if q.Grid.Fold, err = window.ParseFold(v.Get("fold")); err != nil {
		return err
	}
	if v.Get("newest") != "" {
		q.Grid.Newest, err = readCount(v, "newest", "how many of the last windows you want")
	}
	return err
}

// readDays reads which hours and days count.
func readDays(q *query.Windows, v url.Values, _ time.Time) (err error) {
	if text := v.Get("hours"); text != "" {
		if q.Grid.Hours, err = window.ParseHours(text); err != nil {
			return err
		}
	}
	if text := v.Get("days"); text != "" {
		if q.Grid.Days, err = window.ParseDays(text); err != nil {
			return err
		}
	}
	if len(v["except"]) > 0 {
		q.Grid.Except, err = window.ParseDates(strings.Join(v["except"], ","))
	}
	return err
}

func readBool(v url.Values, name string) (bool, error) {
	switch text := v.Get(name); text {
	case "", "false":
		return false, nil
	case "true":
		return true, nil
	default:
		return false, fmt.Errorf("%s %q: write true or false", name, text)
	}
}

func readCount(v url.Values, name, what string) (int, error) {
	n, err := strconv.Atoi(v.Get(name))
	if err != nil || n < 1 {
		return 0, fmt.Errorf("%s %q: write %s, from 1", name, v.Get(name), what)
	}
	return n, nil
}

// readWhen reads the range: from and to, last, or a name; without any the last hour.
func readWhen(q *query.Windows, v url.Values, now time.Time) (err error) {
	q.Range, err = readRange(v, now, q.Grid.Zone)
	return err
}

// readSpan returns the range that a list is asked for, by its zone's clocks; given is false when the
// caller names none.
func readSpan(v url.Values, now time.Time) (from, to time.Time, given bool, err error) {
	zone, err := readZone(v)
	if err != nil || v.Get("from")+v.Get("to")+v.Get("last")+v.Get("range") == "" {
		return from, to, false, err
	}
	r, err := readRange(v, now, zone)
	if err == nil {
		err = r.Check()
	}
	return r.From, r.To, true, err
}

func readRange(v url.Values, now time.Time, zone *time.Location) (r window.Range, err error) {
	var given []string
	for _, name := range []string{"from", "last", "range"} {
		if v.Get(name) != "" {
			given = append(given, name)
		}
	}
	switch {
	case len(given) > 1:
		return r, fmt.Errorf("%s and %s are both given; use one of them", given[0], given[1])
	case v.Get("to") != "" && v.Get("from") == "":
		return r, fmt.Errorf("from is missing beside to; or use last, such as last=24h")
	case v.Get("from") != "":
		return readEnds(v, now, zone)
	case v.Get("range") != "":
		return window.ParseRange(v.Get("range"), now.In(zone))
	case v.Get("last") != "":
		return window.ParseLast(v.Get("last"), now.In(zone))
	}
	return window.ParseLast("1h", now.In(zone))
}

func readEnds(v url.Values, now time.Time, zone *time.Location) (r window.Range, err error) {
	r = window.Range{To: now, Exact: v.Get("to") != ""}
	if r.From, err = readTime("from", v.Get("from"), zone); err != nil || !r.Exact {
		return r, err
	}
	r.To, err = readTime("to", v.Get("to"), zone)
	return r, err
}

func readTime(name, text string, zone *time.Location) (time.Time, error) {
	t, err := window.ParseTime(text, zone)
	if err != nil {
		return t, fmt.Errorf("%s: %w", name, err)
	}
	return t, nil
}

// readHow reads the stats and what becomes of them.
func readHow(q *query.Windows, v url.Values, _ time.Time) (err error) {
	if q.Stats, err = window.ParseStats(v.Get("stats")); err != nil {
		return err
	}
	if q.Gaps, err = window.ParseGaps(v.Get("gaps")); err != nil {
		return err
	}
	if text := v.Get("shift"); text != "" {
		if q.Shift, err = window.ParseStep(text); err != nil {
			return fmt.Errorf("shift %w", err)
		}
		if q.Grid.Fold != "" {
			return fmt.Errorf("shift and fold are both given; fold the earlier range in a query of its own")
		}
	}
	if q.Units, err = query.ParseUnits(v["unit"]); err != nil {
		return err
	}
	if q.Then, err = query.ParseAgain(v.Get("then")); err != nil {
		return err
	}
	q.Explain, err = readBool(v, "explain")
	return err
}

// readTogether reads what becomes of the series among each other.
func readTogether(q *query.Windows, v url.Values, _ time.Time) (err error) {
	if q.Across, err = query.ParseAcross(v.Get("across"), v.Get("weight")); err != nil {
		return err
	}
	if q.By, err = query.ParseGrouping(v.Get("by")); err != nil {
		return err
	}
	if q.By != (query.Grouping{}) && q.Across == nil && len(q.Inputs) == 0 {
		return fmt.Errorf("by %q says how series are grouped, which only across and calculations ask for; give across as well, such as mean",
			v.Get("by"))
	}
	counts := map[string]int{"highest": 0, "lowest": 0}
	for name := range counts {
		if v.Get(name) != "" {
			if counts[name], err = readCount(v, name, "how many series you want"); err != nil {
				return err
			}
		}
	}
	q.Rank, err = query.ParseRank(counts["highest"], counts["lowest"], v.Get("rank"))
	return err
}
