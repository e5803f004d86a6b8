package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"
	"time"
)

// NewRequest says what a gateway is asked for: readings of series, to read a source now, to compare what it has sent, or to
// keep a note.
type NewRequest struct {
	Kind    string `json:"kind"`              // readings, read, reconcile or notes
	Expires string `json:"expires,omitempty"` // a length after which it is not carried out any more, such as 1d

	From *time.Time `json:"from,omitempty"` // of readings and reconcile
	To   *time.Time `json:"to,omitempty"`   // not included

	Select string `json:"select,omitempty"` // of readings
	Keep   string `json:"keep,omitempty"`   // of readings: how long they stay here, such as 7d
	Live   string `json:"live,omitempty"`   // of readings: instead of to, how long from now on as they are made, such as 10m

	Site   string `json:"site,omitempty"`   // of read and reconcile
	Source string `json:"source,omitempty"` // of read
	Group  string `json:"group,omitempty"`  // of read
	Mend   bool   `json:"mend,omitempty"`   // of reconcile: send again what differs

	Note uint64 `json:"note,omitempty"` // of notes: number of the note here; one that was removed is removed there
}

// Request is what was asked of a gateway.
type Request struct {
	ID        string          `json:"id"`
	Site      string          `json:"site"`
	Kind      string          `json:"kind"`
	Author    string          `json:"author"`
	MadeAt    time.Time       `json:"made_at"`
	ExpiresAt time.Time       `json:"expires_at"`
	Gateway   string          `json:"gateway"` // that it is handed to; empty: it is carried out here
	Uplink    string          `json:"uplink"`  // that it came by; empty: it was made here
	State     string          `json:"state"`   // waiting, delivered, done, refused or expired
	Progress  float64         `json:"progress"`
	Detail    string          `json:"detail"`
	ChangedAt time.Time       `json:"changed_at"`
	Body      json.RawMessage `json:"body"`
	Answer    json.RawMessage `json:"answer"` // null until there is one
}

// Over reports whether nothing follows any more.
func (r Request) Over() bool {
	return r.State == "done" || r.State == "refused" || r.State == "expired"
}

// Requests are some, the newest first.
type Requests struct {
	Requests []Request `json:"requests"`
}

// AskGateways calls /requests: one request for each gateway that is asked.
func (c *Client) AskGateways(ctx context.Context, what NewRequest) (Requests, error) {
	return post[Requests](ctx, c, "requests", what)
}

// Requests calls /requests for the newest; an empty state does not narrow, and 0 is the usual limit.
func (c *Client) Requests(ctx context.Context, state string, limit int) (Requests, error) {
	v := values("state", state)
	if limit != 0 {
		v.Set("limit", strconv.Itoa(limit))
	}
	return get[Requests](ctx, c, "requests", v)
}

// Request calls /requests/{request}.
func (c *Client) Request(ctx context.Context, id string) (Request, error) {
	return get[Request](ctx, c, "requests/"+url.PathEscape(id), nil)
}

// WithdrawRequest takes one back that was not handed out.
func (c *Client) WithdrawRequest(ctx context.Context, id string) (Request, error) {
	resp, err := c.send(ctx, http.MethodDelete, "requests/"+url.PathEscape(id), nil)
	if err != nil {
		return Request{}, err
	}
	return decoded[Request](c, resp)
}
