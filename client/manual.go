package client

import "context"

// Manual is the answer of /manual.
type Manual struct {
	Pages []ManualPage `json:"pages"`
}

// ManualPage is a page of the manual; /manual/{page} has it as HTML.
type ManualPage struct {
	Name     string          `json:"name"`
	Title    string          `json:"title"`
	Headings []ManualHeading `json:"headings"`
}

// ManualHeading is a part of a page, which the page has under its id.
type ManualHeading struct {
	ID   string `json:"id"`
	Text string `json:"text"`
}

// Manual calls /manual.
func (c *Client) Manual(ctx context.Context) (Manual, error) {
	return get[Manual](ctx, c, "manual", nil)
}
