package client

import (
	"context"
	"time"
)

// NewRemoval says what is to be removed.
type NewRemoval struct {
	Select string    `json:"select"`
	From   time.Time `json:"from"`
	To     time.Time `json:"to"` // not part of it
	Reason string    `json:"reason"`
	DryRun bool      `json:"dry_run,omitempty"` // only count
}

// Removal is what was removed, or would be.
type Removal struct {
	From      time.Time     `json:"from"`
	To        time.Time     `json:"to"`
	Readings  int           `json:"readings"`
	Summaries int           `json:"summaries"`
	DryRun    bool          `json:"dry_run"`
	Series    []RemovedRows `json:"series"`
}

// RemovedRows counts what is removed of a series.
type RemovedRows struct {
	Path      string `json:"path"`
	Readings  int    `json:"readings"`
	Summaries int    `json:"summaries"`
}

// Remove calls /removals.
func (c *Client) Remove(ctx context.Context, what NewRemoval) (Removal, error) {
	return post[Removal](ctx, c, "removals", what)
}
