package client

import "context"

// NewName is a path, of a series or a station, and the one that it gets.
type NewName struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Renamed are the series that got another path.
type Renamed struct {
	Series []NewName `json:"series"`
}

// Rename calls /series/rename.
func (c *Client) Rename(ctx context.Context, what NewName) (Renamed, error) {
	return post[Renamed](ctx, c, "series/rename", what)
}
