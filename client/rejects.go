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
	Before       uint64 // only with lower ids, for going on
	Limit        int    // 50 without
}

// Rejects calls /rejects for the newest.
func (c *Client) Rejects(ctx context.Context, f RejectFilter) (Rejects, error) {
	v := values("source", f.Source, "rule", f.Rule, "select", f.Select)
	if f.Before > 0 {
		v.Set("before", strconv.FormatUint(f.Before, 10))
	}
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
	return get[RejectCounts](ctx, c, "rejects/counts", values("from", from.UTC().Format(time.RFC3339), "to", to.UTC().Format(time.RFC3339)))
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
