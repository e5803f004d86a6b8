package client

import (
	"context"
	"time"
)

// Discovered calls /discovered; an empty selector means all.
func (c *Client) Discovered(ctx context.Context, selector string) (Discovered, error) {
	return get[Discovered](ctx, c, "discovered", values("select", selector))
}

// Discovered is the answer of /discovered: series that were found and that no rule names yet.
type Discovered struct {
	Rules  []DiscoveryRule    `json:"rules"`
	Series []DiscoveredSeries `json:"series"`
	Lines  string             `json:"lines"` // items of gateway.series that name them as they were found
}

// DiscoveryRule is one by which series are found.
type DiscoveryRule struct {
	Select string `json:"select"`
	Found  int    `json:"found"`
	Most   int    `json:"most"` // readings of more series are rejected
}

// DiscoveredSeries is a series as its first readings say it is.
type DiscoveredSeries struct {
	Path      string             `json:"path"`
	Kind      string             `json:"kind"`
	Unit      string             `json:"unit"`
	UnitFrom  string             `json:"unit_from"` // name: a guess by its name; sender: said with a reading; empty: none is known
	States    map[string]float64 `json:"states"`
	Value     Number             `json:"value"` // the latest
	State     string             `json:"state"`
	FirstSeen time.Time          `json:"first_seen"`
	LastSeen  time.Time          `json:"last_seen"`
}
