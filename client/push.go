package client

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"time"
)

// Pushed is the answer of a post to /readings: what is on disk, and what is not.
type Pushed struct {
	Accepted int          `json:"accepted"`
	Refused  int          `json:"refused"`
	Rows     []RefusedRow `json:"rows"` // of those refused, the first 100

	Previews []PreviewedRow `json:"previews,omitempty"` // what the others would become, where nothing is stored
}

// PreviewedRow is a row as it would be stored.
type PreviewedRow struct {
	Place  string    `json:"place"` // line of CSV, or record of SenML
	Series string    `json:"series"`
	Time   time.Time `json:"time"`
	Value  Number    `json:"value"`
	Unit   string    `json:"unit"`
	State  string    `json:"state"`
}

// RefusedRow is a row that does not count.
type RefusedRow struct {
	Place  string `json:"place"` // line of CSV, or record of SenML
	Reason string `json:"reason"`
}

// Push sends readings as a sender with a token: form is text/csv, application/senml+json or
// application/senml+cbor. With a key, which may be empty, the same readings sent again count
// once. The error of a post of which nothing counts tells why; the answer then names the rows.
func (c *Client) Push(ctx context.Context, token, form, key string, body io.Reader) (out Pushed, err error) {
	return c.push(ctx, "/api/v1/readings", token, form, key, body)
}

// PushMessage sends a body of any form as a message of a topic, which the source's messages say how to read. With
// preview nothing is stored, and the answer says what would be.
func (c *Client) PushMessage(ctx context.Context, token, topic string, preview bool, body io.Reader) (out Pushed, err error) {
	path := "/api/v1/readings?topic=" + url.QueryEscape(topic)
	if preview {
		path += "&preview=true"
	}
	return c.push(ctx, path, token, "application/octet-stream", "", body)
}

// PreviewPush says what would become of readings that are pushed, and stores nothing.
func (c *Client) PreviewPush(ctx context.Context, token, form string, body io.Reader) (out Pushed, err error) {
	return c.push(ctx, "/api/v1/readings?preview=true", token, form, "", body)
}

func (c *Client) push(ctx context.Context, path, token, form, key string, body io.Reader) (out Pushed, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.base+path, body)
	if err != nil {
		return out, err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	r.Header.Set("Content-Type", form)
	if key != "" {
		r.Header.Set("Idempotency-Key", key)
	}
	answer, err := c.http.Do(r)
	if err != nil {
		return out, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return out, err
	}
	if refused, ok := refusal(answer, text); ok {
		return out, refused
	}
	if err := json.Unmarshal(text, &out); err != nil {
		return out, err
	}
	if answer.StatusCode != http.StatusOK {
		return out, &Error{
			Code:    "refused",
			Message: "none of the rows counts; the first: " + out.Rows[0].Place + ": " + out.Rows[0].Reason,
		}
	}
	return out, nil
}
