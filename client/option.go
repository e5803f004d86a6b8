package client

import "net/http"

// With returns a client that shows a token with every call.
func (c *Client) With(token string) *Client {
	out := *c
	out.token = token
	return &out
}

func (c *Client) sign(req *http.Request) {
	req.Header.Set("User-Agent", "nexocumula")
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
}
