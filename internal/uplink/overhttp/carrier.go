package overhttp

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"sync/atomic"
	"time"

	"nexocumula/internal/core/series"
	"nexocumula/internal/uplink"
	"nexocumula/internal/wire"
)

// carrier sends envelopes to a central.
type carrier struct {
	name     string // under which the central knows this service
	settings Settings
	tiers    []series.Tier
	describe func() wire.Status
	now      func() time.Time
	log      *slog.Logger
	http     *http.Client

	session  string
	number   uint64
	sizer    *batchSizer
	identity identity
	meter    *uplink.Meter
	compared atomic.Uint64 // bytes of comparisons
}

// Open begins a session, durably: what an earlier one sent is to be known as our own.
func (s Settings) Open(o uplink.Opening) (uplink.Carrier, error) { return s.open(o) }

func (s Settings) open(o uplink.Opening) (*carrier, error) {
	known, err := parsePeer(o.Peer)
	if err != nil {
		return nil, fmt.Errorf("what is known of its central cannot be read: %w", err)
	}
	session := rand.Text()
	known.begin(session)
	if err := o.Remember(known.text()); err != nil {
		return nil, err
	}
	return &carrier{
		name: o.As, settings: s, tiers: o.Tiers, describe: o.Describe, now: o.Now, log: o.Log, http: metered(s.HTTP(), o.Meter), meter: o.Meter,
		session: session, sizer: newBatchSizer(), identity: identity{file: CredentialFile(o.Data, o.Uplink), site: o.As},
	}, nil
}

// Most returns how many summaries the link carries in a few seconds.
func (c *carrier) Most() int { return c.sizer.rows() }

// Smaller makes the next batch a quarter as large.
func (c *carrier) Smaller() { c.sizer.bytes = max(c.sizer.bytes/4, c.sizer.perRow) }

// Carry posts a load and waits for the answer.
func (c *carrier) Carry(ctx context.Context, l uplink.Load) (uplink.Answer, error) {
	known, err := parsePeer(l.Peer)
	if err != nil {
		return uplink.Answer{}, err
	}
	reply, err := c.deliver(ctx, l, known.Position)
	if err != nil {
		if no, answered := errors.AsType[*refusedError](err); answered && no.Code == wire.CodeMalformed {
			err = &uplink.UnreadableError{Reason: no.Message, Err: err}
		}
		return uplink.Answer{}, err
	}
	out := uplink.Answer{Refused: reply.Refused, RefusedRecords: reply.RefusedRecords, Twin: reply.Twin, Above: reply.Above, Requests: reply.Requests}
	foreign := slices.ContainsFunc(reply.Since, func(one string) bool { return !known.knows(one) })
	switch {
	case reply.Lost:
		out.Everything = "it lost something"
	case foreign:
		out.Everything = "a copy of this store, restored meanwhile, sent to it"
	}
	known.Position = reply.Position
	out.Peer = known.text()
	c.renew(ctx)
	return out, nil
}

// deliver posts an envelope.
func (c *carrier) deliver(ctx context.Context, l uplink.Load, acked wire.Position) (wire.Reply, error) {
	c.number++
	e := wire.Envelope{Gateway: c.name, Session: c.session, Number: c.number, Acked: acked, Status: c.describe()}
	e.Status.BacklogRows, e.Status.BacklogSince, e.Status.BacklogRecords = l.Backlog.Rows, l.Backlog.Oldest, l.Backlog.Records
	e.Status.Every = l.Every
	if !l.Empty() {
		var err error
		if e.Batch, err = wire.EncodeBatch(l.Runs, c.tiers, l.Records); err != nil {
			return wire.Reply{}, &refusedError{Refusal: wire.Refusal{Code: wire.CodeMalformed, Message: err.Error()}}
		}
	}
	body, err := e.Encode()
	if err != nil {
		return wire.Reply{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, c.sizer.within(len(body)))
	defer cancel()
	begun := time.Now()
	reply, err := c.post(ctx, body)
	if err != nil {
		if _, answered := errors.AsType[*refusedError](err); !answered {
			c.sizer.lost()
		}
		return reply, err
	}
	c.sizer.sent(len(e.Batch), l.Rows, time.Since(begun))
	return reply, nil
}

// refusedError is a central's typed no.
type refusedError struct {
	wire.Refusal
	status int
}

func (r *refusedError) Error() string {
	if r.status == 0 {
		return r.Message
	}
	return fmt.Sprintf("the central refused (HTTP %d, %s): %s", r.status, r.Code, r.Message)
}
