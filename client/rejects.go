package client

import (
	"context"
	"net/url"
	"strconv"
	"time"
)

// RejectFilter says which rejects are wanted; what is empty or 0 is of no matter.
type RejectFilter struct {
	Source, Rule string
	Select       string // only of series that it names
	Cursor       string // Next of the answer before
	Limit        int    // 50 without
}

// Rejects calls /rejects for the newest.
func (c *Client) Rejects(ctx context.Context, f RejectFilter) (Rejects, error) {
	v := values("source", f.Source, "rule", f.Rule, "select", f.Select, "cursor", f.Cursor)
	if f.Limit != 0 {
		v.Set("limit", strconv.Itoa(f.Limit))
	}
	return get[Rejects](ctx, c, "rejects", v)
}

// Reject calls /rejects/{id}.
func (c *Client) Reject(ctx context.Context, id uint64) (Reject, error) {
	return get[Reject](ctx, c, "rejects/"+strconv.FormatUint(id, 10), nil)
}

// RejectCounts calls /rejects/counts for the hours from one time to another.
func (c *Client) RejectCounts(ctx context.Context, from, to time.Time) (RejectCounts, error) {
	return get[RejectCounts](ctx, c, "rejects/counts",
		values("from", from.UTC().Format(time.RFC3339), "to", to.UTC().Format(time.RFC3339)))
}

// Replay calls /rejects/replay.
func (c *Client) Replay(ctx context.Context, r Replay) (ReplayOutcome, error) {
	return post[ReplayOutcome](ctx, c, "rejects/replay", r)
}

// Try calls /sources/{source}/try.
func (c *Client) Try(ctx context.Context, source string, t Try) (Trial, error) {
	return post[Trial](ctx, c, "sources/"+url.PathEscape(source)+"/try", t)
}

// Reload calls /reload.
func (c *Client) Reload(ctx context.Context) (Reloaded, error) {
	return post[Reloaded](ctx, c, "reload", struct{}{})
}

// Versions calls /series/versions.
func (c *Client) Versions(ctx context.Context, path string) (Versions, error) {
	return get[Versions](ctx, c, "series/versions", values("path", path))
}

// Reject is a reading or message that was refused.
type Reject struct {
	ID     uint64    `json:"id"`
	Time   time.Time `json:"time"` // when it was refused
	Source string    `json:"source"`
	Place  string    `json:"place"`
	Rule   string    `json:"rule"` // that refused it
	Reason string    `json:"reason"`
	Raw    []byte    `json:"raw"` // Base64 in JSON; at most the first 4096 bytes

	// Of what could be read: the reading, before it was calibrated.
	Series      string     `json:"series"` // empty of what could not
	Value       Number     `json:"value"`
	Text        string     `json:"text"` // instead of value
	Unit        string     `json:"unit"` // that its sender said
	ReadingTime *time.Time `json:"reading_time"`

	ReplayedAt *time.Time `json:"replayed_at"` // when it counted after all
}

// Rejects is the answer of /rejects, newest first.
type Rejects struct {
	Rejects []Reject `json:"rejects"`
	Next    *string  `json:"next"` // the cursor of those before; nil: there are none
}

// RejectCounts is the answer of /rejects/counts.
type RejectCounts struct {
	From   time.Time     `json:"from"`
	To     time.Time     `json:"to"`
	Counts []RejectCount `json:"counts"` // by hour, source and rule
}

// RejectCount counts the rejects of an hour.
type RejectCount struct {
	Hour   time.Time `json:"hour"`
	Source string    `json:"source"`
	Rule   string    `json:"rule"`
	Count  int64     `json:"count"`
}

// Replay says which rejects go their way once more: those with ids, or the newest that do not
// count yet, of a source, a rule and a selector.
type Replay struct {
	IDs    []uint64 `json:"ids,omitempty"`
	Source string   `json:"source,omitempty"`
	Rule   string   `json:"rule,omitempty"`
	Select string   `json:"select,omitempty"`
	Limit  int      `json:"limit,omitempty"`
}

// ReplayOutcome is the result of a replay.
type ReplayOutcome struct {
	Looked   int            `json:"looked"`   // rejects that were sent their way
	Passed   int            `json:"passed"`   // of those, that count now
	Readings int            `json:"readings"` // that they brought
	Refused  []StillRefused `json:"refused"`  // the first 100 that still do not count
}

// StillRefused is a reject that still does not count.
type StillRefused struct {
	ID     uint64 `json:"id"`
	Reason string `json:"reason"`
}
