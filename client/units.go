package client

import "context"

// Units are the units of the series, and what each can be converted to.
type Units struct {
	Units []Unit `json:"units"`
}

// Unit is one, and how people write it.
type Unit struct {
	Symbol  string       `json:"symbol"`  // SenML's where one exists
	Written string       `json:"written"` // such as °C
	To      []Conversion `json:"to"`
}

// Conversion leads to another unit: a value is multiplied by Scale, then Offset is added.
type Conversion struct {
	Symbol  string  `json:"symbol"`
	Written string  `json:"written"`
	Scale   float64 `json:"scale"`
	Offset  float64 `json:"offset"`
}

// Units calls /units.
func (c *Client) Units(ctx context.Context) (Units, error) {
	return get[Units](ctx, c, "units", nil)
}
