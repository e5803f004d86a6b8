package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Client calls one service.
type Client struct {
	base string
	http *http.Client
}

// New makes a client of the service at base, such as http://127.0.0.1:8460.
func New(base string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), http: &http.Client{}}
}

// WindowsQuery asks for windows. Zero values mean the service's defaults: the last
// hour, a fitting width, leave, and the stats mean, min, max, count and coverage.
type WindowsQuery struct {
	Select   string
	From, To time.Time
	Last     string // instead of From and To
	Width    string
	Stats    []string
	Gaps     string
}

// Health calls /health.
func (c *Client) Health(ctx context.Context) (Health, error) {
	return get[Health](ctx, c, "health", nil)
}

// Series calls /series; an empty selector names every series.
func (c *Client) Series(ctx context.Context, selector string) (SeriesList, error) {
	return get[SeriesList](ctx, c, "series", values("select", selector))
}

// Now calls /now.
func (c *Client) Now(ctx context.Context, selector string) (Now, error) {
	return get[Now](ctx, c, "now", values("select", selector))
}

// Windows calls /windows.
func (c *Client) Windows(ctx context.Context, q WindowsQuery) (Windows, error) {
	v := values("select", q.Select, "last", q.Last, "width", q.Width, "gaps", q.Gaps, "stats", strings.Join(q.Stats, ","))
	if !q.From.IsZero() {
		v.Set("from", q.From.Format(time.RFC3339Nano))
	}
	if !q.To.IsZero() {
		v.Set("to", q.To.Format(time.RFC3339Nano))
	}
	return get[Windows](ctx, c, "windows", v)
}

// Rejects calls /rejects for the newest of one source, or of all.
func (c *Client) Rejects(ctx context.Context, source string, limit int) (Rejects, error) {
	return get[Rejects](ctx, c, "rejects", values("source", source, "limit", strconv.Itoa(limit)))
}

// Uplinks calls /uplinks.
func (c *Client) Uplinks(ctx context.Context) (Uplinks, error) {
	return get[Uplinks](ctx, c, "uplinks", nil)
}

// Stream calls each for every event of /stream until ctx ends, each fails, or the
// connection does.
func (c *Client) Stream(ctx context.Context, selector string, each func(Now) error) error {
	resp, err := c.do(ctx, "stream", values("select", selector))
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 64<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data:")
		if !ok {
			continue
		}
		var now Now
		if err := json.Unmarshal([]byte(data), &now); err != nil {
			return fmt.Errorf("reading the stream of %s: %w", c.base, err)
		}
		if err := each(now); err != nil {
			return err
		}
	}
	return lines.Err()
}

func values(pairs ...string) url.Values {
	v := url.Values{}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			v.Set(pairs[i], pairs[i+1])
		}
	}
	return v
}

func (c *Client) do(ctx context.Context, call string, query url.Values) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+"/api/v1/"+call+"?"+query.Encode(), nil)
	if err != nil {
		return nil, fmt.Errorf("address %q: %w", c.base, err)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("asking %s: %w", c.base, err)
	}
	if resp.StatusCode == http.StatusOK {
		return resp, nil
	}
	defer resp.Body.Close()
	var refused struct{ Error Error }
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if json.Unmarshal(text, &refused) != nil || refused.Error.Message == "" {
		return nil, fmt.Errorf("%s answered HTTP %d, which no nexocumula service does; is this its address?", c.base, resp.StatusCode)
	}
	refused.Error.Status = resp.StatusCode
	return nil, &refused.Error
}

func get[T any](ctx context.Context, c *Client, call string, query url.Values) (out T, err error) {
	resp, err := c.do(ctx, call, query)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("reading the answer of %s: %w", c.base, err)
	}
	return out, nil
}
