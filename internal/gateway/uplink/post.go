package uplink

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"nexocumula/internal/wire"
)

// refusal is a central's typed no.
type refusal struct {
	wire.Refusal
	status int
}

func (r *refusal) Error() string {
	return fmt.Sprintf("the central refused (HTTP %d, %s): %s", r.status, r.Code, r.Message)
}

// noConnection says of a failed request what went wrong, without the method and the
// address that the HTTP package puts before it.
func noConnection(err error) error {
	if u, ok := errors.AsType[*url.Error](err); ok {
		err = u.Err
	}
	return fmt.Errorf("no connection to the central: %w", err)
}

// post sends one envelope.
func (s *Sender) post(ctx context.Context, e wire.Envelope) (wire.Reply, error) {
	body, err := e.Encode()
	if err != nil {
		return wire.Reply{}, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.settings.Address+wire.Path, bytes.NewReader(body))
	if err != nil {
		return wire.Reply{}, err
	}
	req.Header.Set("Content-Type", wire.ContentType)
	req.Header.Set("Authorization", "Bearer "+s.settings.Token)
	resp, err := s.http.Do(req)
	if err != nil {
		return wire.Reply{}, noConnection(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if err != nil {
		return wire.Reply{}, fmt.Errorf("reading the central's answer: %w", err)
	}
	if resp.StatusCode != http.StatusOK {
		var no struct {
			Error wire.Refusal `json:"error"`
		}
		if err := json.Unmarshal(text, &no); err != nil || no.Error.Code == "" {
			return wire.Reply{}, fmt.Errorf("%s answered HTTP %d, which no central does; is this its address?", s.settings.Address, resp.StatusCode)
		}
		return wire.Reply{}, &refusal{no.Error, resp.StatusCode}
	}
	var reply wire.Reply
	if err := json.Unmarshal(text, &reply); err != nil {
		return reply, fmt.Errorf("the central's answer is not as docs/replication.md has it: %w", err)
	}
	return reply, nil
}
