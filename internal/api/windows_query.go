package api

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"nexocumula/internal/core/series"
	"nexocumula/internal/core/window"
	"nexocumula/internal/query"
)

// parameters of /windows; any other is refused, lest a typing error go unnoticed.
var windowsParameters = []string{
	"select", "label", "from", "to", "last", "range", "zone", "width", "stride", "origin", "hours", "days", "newest",
	"stats", "gaps", "unit", "shift", "across", "by", "input", "calc",
}

// readWindows reads the query's parameters.
func readWindows(c *gin.Context, now time.Time) (q query.Windows, err error) {
	v := c.Request.URL.Query()
	for name := range v {
		if !slices.Contains(windowsParameters, name) {
			return q, fmt.Errorf("parameter %q is not known; use some of %s", name, strings.Join(windowsParameters, ", "))
		}
	}
	q.Now = now
	for _, step := range []func(*query.Windows, url.Values, time.Time) error{readWhat, readGrid, readWhen, readHow} {
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
	for _, text := range v["calc"] {
		calculation, err := query.ParseCalculation(text, q.Inputs)
		if err != nil {
			return err
		}
		q.Calculations = append(q.Calculations, calculation)
	}
	if len(q.Inputs)+len(q.Calculations) > 0 {
		for _, other := range []string{"select", "stats", "across"} {
			if v.Get(other) != "" {
				return fmt.Errorf("%s is given beside input and calc, which say which series and stats by themselves; leave it out", other)
			}
		}
		if len(q.Inputs) == 0 {
			return fmt.Errorf("input is missing beside calc; name the series a formula is about, such as input=in=stony-beck/inlet/flow")
		}
		return nil
	}
	var err error
	q.Select, err = readSelector(v)
	return err
}

func readSelector(v url.Values) (series.Selector, error) {
	if v.Get("select") == "" {
		return series.Selector{}, fmt.Errorf("select is missing; name the series, such as select=long-mere/+/water_temp")
	}
	selector, err := series.ParseSelector(v.Get("select"))
	if err != nil {
		return selector, err
	}
	labels, err := series.ParseLabels(strings.Join(v["label"], ","))
	return selector.With(labels), err
}

// readGrid reads how the range is cut.
func readGrid(q *query.Windows, v url.Values, _ time.Time) (err error) {
	if q.Grid.Zone, err = time.LoadLocation(v.Get("zone")); err != nil || v.Get("zone") == "Local" {
		return fmt.Errorf("zone %q is not known; use an IANA name such as Europe/Lisbon, or UTC", v.Get("zone"))
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
		if q.Grid.Origin, err = readTime("origin", text); err != nil {
			return err
		}
	}
	if text := v.Get("hours"); text != "" {
		hours, err := window.ParseHours(text)
		if err != nil {
			return err
		}
		q.Grid.Hours = &hours
	}
	if text := v.Get("days"); text != "" {
		if q.Grid.Days, err = window.ParseDays(text); err != nil {
			return err
		}
	}
	if text := v.Get("newest"); text != "" {
		if q.Grid.Newest, err = strconv.Atoi(text); err != nil || q.Grid.Newest < 1 {
			return fmt.Errorf("newest %q: write how many of the last windows you want, from 1", text)
		}
	}
	return nil
}

// readWhen reads the range: from and to, last, or a name; without any the last hour.
func readWhen(q *query.Windows, v url.Values, now time.Time) (err error) {
	var given []string
	for _, name := range []string{"from", "last", "range"} {
		if v.Get(name) != "" {
			given = append(given, name)
		}
	}
	switch {
	case len(given) > 1:
		return fmt.Errorf("%s and %s are both given; use one of them", given[0], given[1])
	case v.Get("to") != "" && v.Get("from") == "":
		return fmt.Errorf("from is missing beside to; or use last, such as last=24h")
	case v.Get("from") != "":
		return readEnds(q, v, now)
	}
	text := v.Get("range")
	if text == "" {
		text = "last 1h"
		if v.Get("last") != "" {
			text = "last " + v.Get("last")
		}
	}
	q.Range, err = window.ParseRange(text, now.In(q.Grid.Zone))
	return err
}

func readEnds(q *query.Windows, v url.Values, now time.Time) (err error) {
	q.Range = window.Range{To: now, Exact: v.Get("to") != ""}
	if q.Range.From, err = readTime("from", v.Get("from")); err != nil || !q.Range.Exact {
		return err
	}
	q.Range.To, err = readTime("to", v.Get("to"))
	return err
}

func readTime(name, text string) (time.Time, error) {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return t, fmt.Errorf("%s: %q is not an RFC 3339 time such as 2026-03-01T08:00:00Z", name, text)
	}
	return t, nil
}

// readHow reads the stats and what becomes of them.
func readHow(q *query.Windows, v url.Values, _ time.Time) (err error) {
	if len(q.Inputs) == 0 {
		if q.Stats, err = window.ParseStats(v.Get("stats")); err != nil {
			return err
		}
	}
	if q.Gaps, err = window.ParseGaps(v.Get("gaps")); err != nil {
		return err
	}
	if q.Across, err = query.ParseAcross(v.Get("across"), v.Get("by")); err != nil {
		return err
	}
	if text := v.Get("shift"); text != "" {
		if q.Shift, err = window.ParseStep(text); err != nil {
			return fmt.Errorf("shift %w", err)
		}
	}
	q.Unit = v.Get("unit")
	return nil
}
