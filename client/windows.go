package client

import (
	"context"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// WindowsQuery asks for windows. Zero values mean the service's defaults: the last
// hour, a fitting width, leave, and the stats mean, min, max, count and coverage.
type WindowsQuery struct {
	Select []string // paths and selectors; what they name is answered together
	Labels []string // key=value, all of which a series must have

	From, To time.Time
	Last     string // instead of From and To: 24h, 7d, 1mo
	Range    string // instead of them: today, yesterday, this or last week, month or year
	Zone     string // IANA name; UTC when empty

	Width   string // 15m, 1d, 1mo; whole: the range is one window
	Stride  string
	Origin  time.Time
	ByClock bool     // hours and minutes are the zone's clock's, from its midnight on
	Edges   string   // whole: windows may reach beyond the range; clipped: they end with it
	Hours   string   // 08:00-20:00, or several: 06:00-09:00,17:00-22:00
	Days    string   // mon-fri
	Except  []string // dates that do not count: 2026-12-24 or 2026-12-27..2026-12-31
	Fold    string   // day, week or year: windows of the same place in it are one
	Newest  int

	Stats  []string
	Gaps   string
	Units  []string // a unit for all, and stat=unit for single stats
	Shift  string
	Across string // mean, sum, min, max, sd, count or a percentile such as p90 of many series
	Weight string // label:KEY, how much each series counts
	By     string // level:1 or label:depth: a row for each, of Across or of Calculations

	Highest, Lowest int      // only so many series
	Rank            string   // the stat they are compared by; the first when empty
	Then            []string // mean, min, max, sum, sd, count, p50 over the windows of each stat

	Inputs       []string // name=selector@stat, instead of Select
	Calculations []string // name=formula

	Explain bool // say what was read
}

// Windows is the answer of /windows. All series have a value for each of the windows.
type Windows struct {
	From    time.Time       `json:"from"` // of the first window
	To      time.Time       `json:"to"`   // of the last
	Zone    string          `json:"zone"`
	Width   string          `json:"width"`
	Stride  string          `json:"stride"`
	Gaps    string          `json:"gaps"`
	Stats   []string        `json:"stats"`
	LeftOut []string        `json:"left_out"`         // what was asked for and has no answer, and why
	Error   *Error          `json:"error,omitempty"`  // why series are missing: the answer is not whole
	Places  []string        `json:"places,omitempty"` // of folded windows: in the day, the week or the year
	Starts  []time.Time     `json:"starts"`
	Ends    []time.Time     `json:"ends"`
	Series  []SeriesWindows `json:"series"`
}

// SeriesWindows are the rows of one series, group of series or calculation, by column.
type SeriesWindows struct {
	SeriesAbout
	Values map[string]Numbers `json:"values"` // by stat
	Times  map[string]Times   `json:"times"`  // by stat, of those that are times
	Bounds map[string]Bounds  `json:"bounds"` // by stat, of those that summaries do not tell exactly
	Empty  []bool             `json:"empty"`  // nothing is known of the window
	Open   []bool             `json:"open"`   // more may still come into the window
	Filled []bool             `json:"filled"` // there was no data, and gaps says what stands there
}

// SeriesAbout describes all rows of a series.
type SeriesAbout struct {
	Name     string            `json:"name"` // path, group or calculation
	Kind     string            `json:"kind"`
	Unit     string            `json:"unit"`  // of its values
	Units    map[string]string `json:"units"` // by stat, of those that have one
	Labels   map[string]string `json:"labels"`
	Tier     string            `json:"tier"`     // what the rows were computed from
	Shift    string            `json:"shift"`    // so much earlier than the windows say; empty: not
	Members  int               `json:"members"`  // series of a group
	Coverage Number            `json:"coverage"` // share of the windows' time that readings speak for
	Whole    Whole             `json:"whole"`

	States        map[string]float64           `json:"states,omitempty"`         // of a state: the value of each name
	ShiftedStarts []time.Time                  `json:"shifted_starts,omitempty"` // of a shift, where its windows begin
	Silent        []string                     `json:"silent,omitempty"`         // series of a group without any reading in the range
	Rank          int                          `json:"rank,omitempty"`           // from 1
	Then          map[string]map[string]Number `json:"then,omitempty"`           // by stat and function
	Missing       []Missing                    `json:"missing,omitempty"`        // what is missing in the range, and why
	Unknown       []Unknown                    `json:"unknown,omitempty"`        // where there are readings and no number
	Explained     *Explained                   `json:"explained,omitempty"`
}

// Unknown says why a stat has no number in some windows although there are readings.
type Unknown struct {
	Stat    string `json:"stat"`
	Windows int    `json:"windows"` // how many; 0: only all windows taken as one
	Why     string `json:"why"`
}

// Whole holds the stats of all windows taken as one.
type Whole struct {
	Values map[string]Number     `json:"values"`
	Times  map[string]*time.Time `json:"times"`
	Bounds map[string]Bound      `json:"bounds,omitempty"`
}

// Bounds are the least and the most that a stat may be, by window.
type Bounds struct {
	Least Numbers `json:"least"`
	Most  Numbers `json:"most"`
}

// Bound is one of them.
type Bound struct {
	Least Number `json:"least"`
	Most  Number `json:"most"`
}

// Explained says what was read for a series.
type Explained struct {
	Why  string `json:"why"` // not a wider tier; empty when it is the widest
	Read []Read `json:"read"`
}

// Read counts the rows read from a tier.
type Read struct {
	Tier     string `json:"tier"`
	Synopses int    `json:"synopses"` // chunks answered by the one summary of all their rows
	Steps    int    `json:"steps"`    // chunks answered by their quarters of an hour
	Opened   int    `json:"opened"`   // chunks of which rows were decoded
	Rows     int    `json:"rows"`     // that were decoded, or are not in a chunk yet
	Bytes    int    `json:"bytes"`
}

// Readings is the answer of /readings.
type Readings struct {
	Series []SeriesReadings `json:"series"`
	Error  *Error           `json:"error,omitempty"` // why some are missing
}

// SeriesReadings holds the readings of one series in order of time.
type SeriesReadings struct {
	Path     string             `json:"path"`
	Kind     string             `json:"kind"`
	Unit     string             `json:"unit"`
	States   map[string]float64 `json:"states,omitempty"` // of a state: the value of each name
	Thinning *Thinning          `json:"thinning"`         // null: these are all that arrived
	Readings []Reading          `json:"readings"`
}

// Reading is one of them.
type Reading struct {
	Time  time.Time `json:"time"`
	Value Number    `json:"value"`
}

// ReadingsQuery asks for readings. Zero values mean the service's defaults, as of windows.
type ReadingsQuery struct {
	Select   string
	Labels   []string
	From, To time.Time
	Last     string
	Range    string
	Zone     string
	Unit     string
	Most     int // of each series, the first ones
}

func (q ReadingsQuery) values() url.Values {
	v := values("select", q.Select, "last", q.Last, "range", q.Range, "zone", q.Zone, "unit", q.Unit)
	setTimes(v, map[string]time.Time{"from": q.From, "to": q.To})
	setCounts(v, map[string]int{"limit": q.Most})
	v["label"] = q.Labels
	return v
}

// Readings calls /readings.
func (c *Client) Readings(ctx context.Context, q ReadingsQuery) (Readings, error) {
	out, err := get[Readings](ctx, c, "readings", q.values())
	if err == nil && out.Error != nil {
		return out, out.Error
	}
	return out, err
}

// ReadingsAs writes the answer of /readings to a writer, as csv, wide (CSV with a column for each series) or arrow.
func (c *Client) ReadingsAs(ctx context.Context, q ReadingsQuery, form string, to io.Writer) error {
	return c.copy(ctx, "readings", q.values(), form, to)
}

func (q WindowsQuery) values() url.Values {
	v := values("last", q.Last, "range", q.Range, "zone", q.Zone, "width", q.Width, "stride", q.Stride, "edges", q.Edges,
		"hours", q.Hours, "days", q.Days, "fold", q.Fold, "stats", strings.Join(q.Stats, ","), "gaps", q.Gaps, "shift", q.Shift,
		"across", q.Across, "weight", q.Weight, "by", q.By, "rank", q.Rank, "then", strings.Join(q.Then, ","))
	setTimes(v, map[string]time.Time{"from": q.From, "to": q.To, "origin": q.Origin})
	setCounts(v, map[string]int{"newest": q.Newest, "highest": q.Highest, "lowest": q.Lowest})
	for name, yes := range map[string]bool{"by_clock": q.ByClock, "explain": q.Explain} {
		if yes {
			v.Set(name, "true")
		}
	}
	v["select"], v["label"], v["input"], v["calc"], v["unit"], v["except"] = q.Select, q.Labels, q.Inputs, q.Calculations, q.Units, q.Except
	return v
}

func setTimes(v url.Values, times map[string]time.Time) {
	for name, t := range times {
		if !t.IsZero() {
			v.Set(name, t.Format(time.RFC3339Nano))
		}
	}
}

func setCounts(v url.Values, counts map[string]int) {
	for name, n := range counts {
		if n != 0 {
			v.Set(name, strconv.Itoa(n))
		}
	}
}

// Windows calls /windows.
func (c *Client) Windows(ctx context.Context, q WindowsQuery) (Windows, error) {
	out, err := get[Windows](ctx, c, "windows", q.values())
	if err == nil && out.Error != nil {
		return out, out.Error
	}
	return out, err
}

// WindowsAs writes the answer of /windows to a writer, as csv or arrow.
func (c *Client) WindowsAs(ctx context.Context, q WindowsQuery, form string, to io.Writer) error {
	return c.copy(ctx, "windows", q.values(), form, to)
}

// Moment calls /moment for the value of each series at a moment; how is before, at
// or nearest, and within a duration that the reading may be away at most.
func (c *Client) Moment(ctx context.Context, selector string, at time.Time, how, within string) (Moment, error) {
	return get[Moment](ctx, c, "moment",
		values("select", selector, "at", at.Format(time.RFC3339Nano), "how", how, "within", within))
}
