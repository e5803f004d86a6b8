package central

import (
	"context"

	"nexocumula/internal/wire"
)

// Teller tells where what is held here differs from what a gateway says that it holds.
type Teller interface {
	Compare(ctx context.Context, in wire.Compare, sites []string) (wire.Compared, error)
}

// Compare answers a gateway that proves to be the one it says. One comparison runs at a time.
func (r *Receiver) Compare(ctx context.Context, teller Teller, token, from string, body []byte) ([]byte, error) {
	if err := r.Knows(token); err != nil {
		return nil, err
	}
	var in wire.Compare
	if err := wire.DecodeCompare(body, &in); err != nil {
		return nil, no(wire.CodeMalformed, "%v", err)
	}
	_, sites, err := r.admit(in.Gateway, token, from)
	if err != nil {
		return nil, err
	}
	select {
	case r.comparing <- struct{}{}:
		defer func() { <-r.comparing }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	out, err := teller.Compare(ctx, in, sites)
	if err != nil {
		return nil, err
	}
	return wire.EncodeCompare(out)
}
