package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"nexocumula/internal/plain"
)

// Client calls one service.
type Client struct {
	base  string
	http  *http.Client
	token string // "": none
}

// New makes a client of the service at base, such as http://127.0.0.1:8460.
func New(base string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), http: &http.Client{}}
}

// Over makes one that sends its requests by way of another HTTP client, such as one that trusts the
// service's certificate.
func Over(base string, by *http.Client) *Client {
	return &Client{base: strings.TrimRight(base, "/"), http: by}
}

// Base returns the address of the service.
func (c *Client) Base() string { return c.base }

// Health calls /api/v1/health. To those who have not logged in the service says only whether it lives, which is an
// error here.
func (c *Client) Health(ctx context.Context) (Health, error) {
	out, err := get[Health](ctx, c, "health", nil)
	if err == nil && out.Version == "" {
		err = &Error{Status: http.StatusUnauthorized, Code: "login", Message: "log in first: in the console, or with nexocumula login"}
	}
	return out, err
}

// Series calls /series; an empty selector names every series, of which only those with
// all the labels, each key=value, count.
func (c *Client) Series(ctx context.Context, selector string, labels ...string) (SeriesList, error) {
	query := selected(selector, labels)
	out, err := get[SeriesList](ctx, c, "series", query)
	for err == nil && out.Next != nil {
		var more SeriesList
		query.Set("cursor", *out.Next)
		more, err = get[SeriesList](ctx, c, "series", query)
		out.Series, out.Next = append(out.Series, more.Series...), more.Next
	}
	return out, err
}

// Now calls /now for the same series as Series would.
func (c *Client) Now(ctx context.Context, selector string, labels ...string) (Now, error) {
	query := selected(selector, labels)
	out, err := get[Now](ctx, c, "now", query)
	for err == nil && out.Next != nil {
		var more Now
		query.Set("cursor", *out.Next)
		more, err = get[Now](ctx, c, "now", query)
		out.Values, out.Next = append(out.Values, more.Values...), more.Next
	}
	return out, err
}

// ReadSource has a source read now, only a group of it when that is not empty, and waits.
func (c *Client) ReadSource(ctx context.Context, source, group string) (out SourceRead, err error) {
	resp, err := c.send(ctx, http.MethodPost, "sources/"+url.PathEscape(source)+"/read", values("group", group))
	if err != nil {
		return out, err
	}
	return decoded[SourceRead](c, resp)
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

func selected(selector string, labels []string) url.Values {
	v := values("select", selector)
	if len(labels) > 0 {
		v["label"] = labels
	}
	return v
}

func (c *Client) do(ctx context.Context, call string, query url.Values) (*http.Response, error) {
	return c.send(ctx, http.MethodGet, call, query)
}

func (c *Client) send(ctx context.Context, method, call string, query url.Values) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1/"+call+"?"+query.Encode(), nil)
	if err != nil {
		return nil, fmt.Errorf("address %q: %w", c.base, err)
	}
	return c.answer(req)
}

// post sends a value as JSON.
func post[T any](ctx context.Context, c *Client, call string, body any) (out T, err error) {
	return sent[T](ctx, c, http.MethodPost, call, body)
}

// sent sends a value as JSON, with further headers.
func sent[T any](ctx context.Context, c *Client, method, call string, body any, headers ...string) (out T, err error) {
	text, err := json.Marshal(body)
	if err != nil {
		return out, fmt.Errorf("writing the request: %w", err)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+"/api/v1/"+call, bytes.NewReader(text))
	if err != nil {
		return out, fmt.Errorf("address %q: %w", c.base, err)
	}
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := c.answer(req)
	if err != nil {
		return out, err
	}
	return decoded[T](c, resp)
}

func (c *Client) answer(req *http.Request) (*http.Response, error) {
	c.sign(req)
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("asking %s: %w", c.base, plain.Network(err))
	}
	if resp.StatusCode == http.StatusOK || resp.StatusCode == http.StatusCreated {
		return resp, nil
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	refused, ok := refusal(resp, text)
	if !ok {
		return nil, fmt.Errorf("%s answered HTTP %d, which no nexocumula service does; is this its address?", c.base,
			resp.StatusCode)
	}
	return nil, refused
}

// refusal reads the problem that an answer has.
func refusal(resp *http.Response, text []byte) (*Error, bool) {
	var p Problem
	if json.Unmarshal(text, &p) != nil || p.Code == "" {
		return nil, false
	}
	return &Error{Status: resp.StatusCode, Code: p.Code, Message: p.Detail}, true
}

// copy writes an answer as it is to a writer. One that breaks off is an error.
func (c *Client) copy(ctx context.Context, call string, query url.Values, form string, to io.Writer) error {
	query.Set("format", form)
	resp, err := c.do(ctx, call, query)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if _, err := io.Copy(to, resp.Body); err != nil {
		return fmt.Errorf("the answer of %s broke off: %w", c.base, plain.Network(err))
	}
	return nil
}

func get[T any](ctx context.Context, c *Client, call string, query url.Values) (out T, err error) {
	resp, err := c.do(ctx, call, query)
	if err != nil {
		return out, err
	}
	return decoded[T](c, resp)
}

func decoded[T any](c *Client, resp *http.Response) (out T, err error) {
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("reading the answer of %s: %w", c.base, err)
	}
	return out, nil
}
