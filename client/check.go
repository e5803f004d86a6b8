package client

import "context"

// Check calls /field/check.
func (c *Client) Check(ctx context.Context, want Check) (Checked, error) {
	return post[Checked](ctx, c, "field/check", want)
}

// Plan calls /field/plan.
func (c *Client) Plan(ctx context.Context) (Plan, error) { return get[Plan](ctx, c, "field/plan", nil) }

// Check asks whether the service's configuration, as the file is now, is good.
type Check struct {
	Live bool   `json:"live,omitempty"` // also connect to what it reaches
	Wait string `json:"wait,omitempty"` // of live: how long to wait for messages and answers; empty: 10s
}

// Checked is the answer.
type Checked struct {
	File     string        `json:"file"`
	Problems []string      `json:"problems"` // each mistake with its place
	Live     []CheckedLive `json:"live"`
}

// CheckedLive is a line of what came of checking a configuration with what it reaches.
type CheckedLive struct {
	Of     string `json:"of"` // source or uplink
	Series string `json:"series"`
	Works  bool   `json:"works"`
	Value  string `json:"value"`
	Unit   string `json:"unit"`
	Says   string `json:"says"` // why it does not work, or what is good
}

// Plan forecasts the cost of a configuration.
type Plan struct {
	Lines     []PlannedLine `json:"lines"`     // that devices are asked on
	Readings  float64       `json:"readings"`  // a day
	Summaries []PlannedTier `json:"summaries"` // a day
	Disk      float64       `json:"disk"`      // bytes a day that the store grows by
	Uplinks   []PlannedUse  `json:"uplinks"`   // of a central: of each gateway below
	Commits   float64       `json:"commits"`   // an hour, each of which the disk writes at once
	Free      float64       `json:"free"`      // bytes on the disk of the store
	Outage    float64       `json:"outage"`    // days that an outage may last before that is used up; more than 100,000: no matter
	Assumes   []string      `json:"assumes"`   // what stands behind the figures
	Unknown   []string      `json:"unknown"`   // what they leave out
	Series    int           `json:"series"`
	Memory    float64       `json:"memory"` // bytes that a central needs; 0: of a gateway, not told
}

// PlannedLine is how much of a line's time schedules take.
type PlannedLine struct {
	Source   string  `json:"source"`
	Address  string  `json:"address"`
	Requests float64 `json:"requests"` // an hour
	Busy     float64 `json:"busy"`     // share of the line's time; 0: of no matter
}

// PlannedUse is how much of a link is used.
type PlannedUse struct {
	Name  string  `json:"name"`
	Bytes float64 `json:"bytes"` // a day, both ways, with all headers and TLS
	Share float64 `json:"share"` // of what it may use; 0: it has no limit
}

// PlannedTier is how many summaries a tier gets.
type PlannedTier struct {
	Tier string  `json:"tier"`
	Rows float64 `json:"rows"` // a day
}
