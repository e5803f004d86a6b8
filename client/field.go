package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"strings"
)

// Probe calls /field/probe.
func (c *Client) Probe(ctx context.Context, p Probe) (Probed, error) {
	return post[Probed](ctx, c, "field/probe", p)
}

// Scan calls /field/scan.
func (c *Client) Scan(ctx context.Context, s Scan) (Scanned, error) {
	return post[Scanned](ctx, c, "field/scan", s)
}

// Lines calls /field/lines.
func (c *Client) Lines(ctx context.Context, l LinesFor) (Lines, error) {
	return post[Lines](ctx, c, "field/lines", l)
}

// Append calls /configuration/append.
func (c *Client) Append(ctx context.Context, a Append) (Appended, error) {
	return post[Appended](ctx, c, "configuration/append", a)
}

// Watch calls each for every event of /field/watch of a source, or of a broker's address, until
// ctx ends or each fails.
func (c *Client) Watch(ctx context.Context, source, address, topics string, each func(Watched) error) error {
	resp, err := c.do(ctx, "field/watch", values("source", source, "address", address, "topics", topics))
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 64<<20)
	event := ""
	for lines.Scan() {
		if name, ok := strings.CutPrefix(lines.Text(), "event:"); ok {
			event = name
		}
		data, ok := strings.CutPrefix(lines.Text(), "data:")
		if !ok {
			continue
		}
		if event == "failed" {
			var failed Error
			if err := json.Unmarshal([]byte(data), &failed); err != nil {
				return fmt.Errorf("reading the watch of %s: %w", c.base, err)
			}
			return &failed
		}
		var now Watched
		if err := json.Unmarshal([]byte(data), &now); err != nil {
			return fmt.Errorf("reading the watch of %s: %w", c.base, err)
		}
		if err := each(now); err != nil {
			return err
		}
	}
	return lines.Err()
}
