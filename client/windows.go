package client

import (
	"context"
	"strconv"
	"strings"
	"time"
)

// WindowsQuery asks for windows. Zero values mean the service's defaults: the last
// hour, a fitting width, leave, and the stats mean, min, max, count and coverage.
type WindowsQuery struct {
	Select string
	Labels []string // key=value, all of which a series must have

	From, To time.Time
	Last     string // instead of From and To: 24h, 7d, 1mo
	Range    string // instead of them: today, yesterday, this week, this month, this year
	Zone     string // IANA name; UTC when empty

	Width  string // 15m, 1d, 1mo; whole: the range is one window
	Stride string
	Origin time.Time
	Hours  string // 08:00-20:00
	Days   string // mon-fri
	Newest int

	Stats  []string
	Gaps   string
	Unit   string
	Shift  string
	Across string // mean, sum, min or max of many series
	By     string // level:1 or label:depth

	Inputs       []string // name=path@stat, instead of Select
	Calculations []string // name=formula
}

// Windows is the answer of /windows. All series have a value for each of the windows.
type Windows struct {
	From   time.Time       `json:"from"` // of the first window
	To     time.Time       `json:"to"`   // of the last
	Zone   string          `json:"zone"`
	Width  string          `json:"width"`
	Stride string          `json:"stride"`
	Gaps   string          `json:"gaps"`
	Stats  []string        `json:"stats"`
	Starts []time.Time     `json:"starts"`
	Ends   []time.Time     `json:"ends"`
	Series []SeriesWindows `json:"series"`
	Error  *Error          `json:"error,omitempty"` // why series are missing: the answer is not whole
}

// SeriesWindows are the rows of one series, group of series or calculation, by column.
type SeriesWindows struct {
	Name     string             `json:"name"` // path, group or calculation
	Kind     string             `json:"kind"`
	Unit     string             `json:"unit"`
	Labels   map[string]string  `json:"labels"`
	Tier     string             `json:"tier"`     // what the rows were computed from
	Shift    string             `json:"shift"`    // so much earlier than the windows say; empty: not
	Members  int                `json:"members"`  // series of a group
	Coverage Number             `json:"coverage"` // share of the windows' time that readings speak for
	Values   map[string]Numbers `json:"values"`   // by stat
	Times    map[string]Times   `json:"times"`    // by stat, of those that are times
	Empty    []bool             `json:"empty"`    // nothing is known of the window
	Open     []bool             `json:"open"`     // more may still come into the window
	Filled   []bool             `json:"filled"`   // there was no data, and gaps says what stands there
	Whole    Whole              `json:"whole"`
}

// Whole is the same stats of all windows taken as one.
type Whole struct {
	Values map[string]Number     `json:"values"`
	Times  map[string]*time.Time `json:"times"`
}

// Windows calls /windows.
func (c *Client) Windows(ctx context.Context, q WindowsQuery) (Windows, error) {
	v := values("select", q.Select, "last", q.Last, "range", q.Range, "zone", q.Zone, "width", q.Width, "stride", q.Stride,
		"hours", q.Hours, "days", q.Days, "stats", strings.Join(q.Stats, ","), "gaps", q.Gaps, "unit", q.Unit, "shift", q.Shift,
		"across", q.Across, "by", q.By)
	for name, t := range map[string]time.Time{"from": q.From, "to": q.To, "origin": q.Origin} {
		if !t.IsZero() {
			v.Set(name, t.Format(time.RFC3339Nano))
		}
	}
	if q.Newest != 0 {
		v.Set("newest", strconv.Itoa(q.Newest))
	}
	v["label"], v["input"], v["calc"] = q.Labels, q.Inputs, q.Calculations
	out, err := get[Windows](ctx, c, "windows", v)
	if err == nil && out.Error != nil {
		return out, out.Error
	}
	return out, err
}

// Moment calls /moment for the value of each series at a moment; how is before, at
// or nearest, and within a duration that the reading may be away at most.
func (c *Client) Moment(ctx context.Context, selector string, at time.Time, how, within string) (Moment, error) {
	return get[Moment](ctx, c, "moment", values("select", selector, "at", at.Format(time.RFC3339Nano), "how", how, "within", within))
}
