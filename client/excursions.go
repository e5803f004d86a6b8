package client

import (
	"context"
	"time"
)

// Excursions is the answer of /excursions: what happened in a time.
type Excursions struct {
	From       time.Time     `json:"from"`
	To         time.Time     `json:"to"`
	Excursions []Excursion   `json:"excursions"`
	Silent     []Silence     `json:"silent"`
	Outages    []NamedOutage `json:"outages"`
	Rejects    []RejectGroup `json:"rejects"` // nil: the caller sees only some of the series, and so no rejects
}

// Excursion is a stretch in which a series was outside of its normal range.
type Excursion struct {
	Path      string    `json:"path"`
	Unit      string    `json:"unit"`
	From      time.Time `json:"from"`
	To        time.Time `json:"to"`
	Side      string    `json:"side"`   // low or high
	Beyond    string    `json:"beyond"` // inner or outer: the furthest range that it left
	Limit     Number    `json:"limit"`  // of that range
	Extreme   Number    `json:"extreme"`
	ExtremeAt time.Time `json:"extreme_at"`
	Over      bool      `json:"over"`     // it came back within the time
	WidthMS   int64     `json:"width_ms"` // of the windows that it was found by, and so how exact from and to are
}

// Silence is a stretch without readings of a series that has some otherwise.
type Silence struct {
	Path string    `json:"path"`
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Over bool      `json:"over"`
}

// NamedOutage is an outage of a link.
type NamedOutage struct {
	ID     uint64     `json:"id"`
	Link   string     `json:"link"`
	Began  time.Time  `json:"began"`
	Ended  *time.Time `json:"ended"` // nil: it is still down
	Reason string     `json:"reason"`
}

// RejectGroup is a rule of a source that refused something, and had refused nothing in the week before.
type RejectGroup struct {
	Source    string    `json:"source"`
	Rule      string    `json:"rule"`
	Count     int64     `json:"count"`
	FirstHour time.Time `json:"first_hour"`
	LastHour  time.Time `json:"last_hour"`
}

// ExcursionsQuery are the parameters of /excursions. Without a time it is since 18:00 of the day before.
type ExcursionsQuery struct {
	Select            string
	From, To          time.Time
	Last, Range, Zone string
}

// Excursions calls /excursions.
func (c *Client) Excursions(ctx context.Context, q ExcursionsQuery) (Excursions, error) {
	text := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.Format(time.RFC3339Nano)
	}
	return get[Excursions](ctx, c, "excursions",
		values("select", q.Select, "from", text(q.From), "to", text(q.To), "last", q.Last, "range", q.Range, "zone",
			q.Zone))
}
