package overhttp

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"nexocumula/internal/plain"
	"nexocumula/internal/uplink"
	"nexocumula/internal/wire"
)

// waitAtMost is longer than a central holds a call.
const waitAtMost = wire.LongestWait + 20*time.Second

// Wait returns once the central asks something of this service, or has not for a while.
func (c *carrier) Wait(ctx context.Context) (asked bool, err error) {
	bearer, by, err := c.current()
	if err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(ctx, waitAtMost)
	defer cancel()
	body, err := json.Marshal(wire.Wait{Gateway: c.name})
	if err != nil {
		return false, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.settings.URL+wire.WaitPath, bytes.NewReader(body))
	if err != nil {
		return false, err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+bearer)
	resp, err := by.Do(req)
	if err != nil {
		return false, plain.Network(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 1<<16))
	switch {
	case err != nil:
		return false, plain.Network(err)
	case resp.StatusCode == http.StatusNotFound:
		return false, uplink.UnknownError{}
	case resp.StatusCode != http.StatusOK:
		return false, fmt.Errorf("the central answered HTTP %d", resp.StatusCode)
	}
	var out wire.Waited
	err = json.Unmarshal(text, &out)
	return out.Asked, err
}
