package client

import (
	"context"
	"time"
)

// LinkHistory holds the outages and backlogs of a time range.
type LinkHistory struct {
	From  time.Time      `json:"from"`
	To    time.Time      `json:"to"`
	Ran   []LinkSpan     `json:"ran"` // when the service ran; of other times nothing is known
	Links []LinkAccounts `json:"links"`
}

// LinkSpan is a time.
type LinkSpan struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
}

// LinkAccounts holds the history of one link.
type LinkAccounts struct {
	Link    string        `json:"link"` // to an uplink, from a gateway, or source and its name
	Outages []Outage      `json:"outages"`
	Waiting []WaitingRows `json:"waiting"`
}

// Outage is a time in which a link was down.
type Outage struct {
	ID        uint64     `json:"id"`
	Began     time.Time  `json:"began"`
	Ended     *time.Time `json:"ended"` // nil: it is still down
	Reason    string     `json:"reason"`
	Waited    int        `json:"waited"`     // about how many summaries waited, at most
	Oldest    *time.Time `json:"oldest"`     // when what waited longest was made
	CaughtUp  *time.Time `json:"caught_up"`  // when the last that had waited arrived; nil: not yet, or nothing waited
	LongestMS int64      `json:"longest_ms"` // by how much the latest of it was late, in ms; 0: nothing was
}

// WaitingRows is how many summaries waited at a time.
type WaitingRows struct {
	At   time.Time `json:"at"`
	Rows int       `json:"rows"`
}

// LinkHistory calls /links for the last so much, 30 days when that is empty.
func (c *Client) LinkHistory(ctx context.Context, last string) (LinkHistory, error) {
	return get[LinkHistory](ctx, c, "links", values("last", last))
}
