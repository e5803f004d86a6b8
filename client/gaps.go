package client

import (
	"context"
	"strconv"
	"time"
)

// Gaps is the answer of /gaps: what is missing of series within a time, and why.
type Gaps struct {
	From   time.Time    `json:"from"`
	To     time.Time    `json:"to"`
	Series int          `json:"series"` // that were asked for
	Count  int          `json:"count"`  // gaps of them in the time; Gaps are the longest
	Gaps   []Gap        `json:"gaps"`
	Causes []CauseShare `json:"causes"` // the largest share first
}

// Gap is a time for which something of a series is not here.
type Gap struct {
	Series string `json:"series"`
	Missing
	Author   string `json:"author"`    // who removed it
	LengthMS int64  `json:"length_ms"` // within the time that was asked for
}

// Missing says what is missing and why.
type Missing struct {
	From   time.Time  `json:"from"`
	To     *time.Time `json:"to"`    // nil: it goes on
	Of     string     `json:"of"`    // readings, or a tier such as 10s; empty: all
	Cause  string     `json:"cause"` // such as device_silent, see docs/gaps.md
	Detail string     `json:"detail"`
}

// CauseShare is how much of the time of gaps a cause has.
type CauseShare struct {
	Cause    string `json:"cause"`
	Gaps     int    `json:"gaps"`
	LengthMS int64  `json:"length_ms"`
	Share    Number `json:"share"` // of the time of all gaps, 0 to 1
}

// GapsQuery are the parameters of /gaps. Without a time it is the last 30 days.
type GapsQuery struct {
	Select            string
	Labels            []string
	From, To          time.Time
	Last, Range, Zone string
	Cause             string // only this
	Limit             int    // 100 when 0
}

// Gaps calls /gaps.
func (c *Client) Gaps(ctx context.Context, q GapsQuery) (Gaps, error) {
	text := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.Format(time.RFC3339Nano)
	}
	v := values("select", q.Select, "from", text(q.From), "to", text(q.To), "last", q.Last, "range", q.Range, "zone", q.Zone,
		"cause", q.Cause)
	for _, label := range q.Labels {
		v.Add("label", label)
	}
	if q.Limit > 0 {
		v.Set("limit", strconv.Itoa(q.Limit))
	}
	return get[Gaps](ctx, c, "gaps", v)
}
