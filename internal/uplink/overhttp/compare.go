package overhttp

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"nexocumula/internal/plain"
	"nexocumula/internal/wire"
)

const (
	compareWithin = 10 * time.Minute // both ends may have much to sum up
	mostCompared  = 16 << 20         // bytes of an answer
)

// Compare asks the central what differs there.
func (c *carrier) Compare(ctx context.Context, in wire.Compare) (out wire.Compared, err error) {
	bearer, by, err := c.current()
	if err != nil {
		return out, err
	}
	in.Gateway = c.name
	body, err := wire.EncodeCompare(in)
	if err != nil {
		return out, err
	}
	ctx, cancel := context.WithTimeout(ctx, compareWithin)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.settings.URL+wire.ComparePath, bytes.NewReader(body))
	if err != nil {
		return out, err
	}
	req.Header.Set("Content-Type", wire.ContentType)
	req.Header.Set("Authorization", "Bearer "+bearer)
	resp, err := by.Do(req)
	if err != nil {
		return out, fmt.Errorf("no connection to the central: %w", plain.Network(err))
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, mostCompared))
	c.compared.Add(uint64(len(body) + len(text)))
	switch {
	case err != nil:
		return out, fmt.Errorf("the central's answer did not come: %w", plain.Network(err))
	case resp.StatusCode == http.StatusNotFound:
		return out, errors.New("the central knows nothing of comparisons; bring it up to date")
	case resp.StatusCode != http.StatusOK:
		var no wire.Refusal
		if json.Unmarshal(text, &no) == nil && no.Code != "" {
			return out, &refusedError{no, resp.StatusCode}
		}
		return out, fmt.Errorf("the central answered HTTP %d", resp.StatusCode)
	}
	return out, wire.DecodeCompare(text, &out)
}

// ComparedBytes returns how many bytes comparisons have sent and received.
func (c *carrier) ComparedBytes() uint64 { return c.compared.Load() }
