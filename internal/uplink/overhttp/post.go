package overhttp

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"

	"nexocumula/internal/plain"
	"nexocumula/internal/wire"
)

// post sends one envelope.
func (c *carrier) post(ctx context.Context, body []byte) (wire.Reply, error) {
	bearer, by, err := c.current()
	if err != nil {
		return wire.Reply{}, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.settings.URL+wire.Path, bytes.NewReader(body))
	if err != nil {
		return wire.Reply{}, err
	}
	req.Header.Set("Content-Type", wire.ContentType)
	req.Header.Set("Authorization", "Bearer "+bearer)
	resp, err := by.Do(req)
	if err != nil {
		return wire.Reply{}, fmt.Errorf("no connection to the central: %w", plain.Network(err))
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if err != nil {
		return wire.Reply{}, fmt.Errorf("the central's answer did not come: %w", plain.Network(err))
	}
	if to := resp.Header.Get("Location"); to != "" { // it is not gone to: the secret is for the address that was configured
		return wire.Reply{}, fmt.Errorf("%s sends to %s; if that is the central, write it as the uplink's address",
			c.settings.URL, to)
	}
	if resp.StatusCode != http.StatusOK {
		var no wire.Refusal
		if err := json.Unmarshal(text, &no); err != nil || no.Code == "" {
			return wire.Reply{}, fmt.Errorf("%s answered HTTP %d, which no central does; is this its address?",
				c.settings.URL, resp.StatusCode)
		}
		return wire.Reply{}, &refusedError{no, resp.StatusCode}
	}
	var reply wire.Reply
	if err := json.Unmarshal(text, &reply); err != nil {
		return reply, fmt.Errorf("the central's answer is not as docs/replication.md has it: %w", err)
	}
	if reply.Life == "" {
		return reply, fmt.Errorf("the central's answer does not say in which of its lives it stored the batch; is %s a central of this version?",
			c.settings.URL)
	}
	return reply, nil
}
