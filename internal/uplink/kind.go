package uplink

import (
	"context"
	"log/slog"
	"time"

	"nexocumula/internal/config"
	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
	"nexocumula/internal/wire"
)

// Settings are those of a kind of uplink, checked.
type Settings interface {
	// Open makes the carrier.
	Open(o Opening) (Carrier, error)
	// Address says where it sends, for display.
	Address() string
	// Check looks whether it can send there, for as long as ctx lasts.
	Check(ctx context.Context, data, uplink string) (says string, works bool)
}

// Opening is what a carrier is opened with.
type Opening struct {
	As       string // the name under which this service sends
	Data     string // folder of the service
	Uplink   string // name of the uplink
	Tiers    []series.Tier
	Peer     []byte                  // what was last known of where it sends; empty at first
	Remember func(peer []byte) error // keeps that durably
	Describe func() wire.Status      // what this service says of itself
	Meter    *Meter                  // counts what crosses
	Now      func() time.Time        // by the clock of the store
	Log      *slog.Logger
}

// Kind returns a kind of uplink: the key of its part of the configuration, and how that is
// checked. F is the shape of that part.
func Kind[F any](key, says string, check func(at shape.Place, raw F) Settings) config.UplinkKind {
	return config.UplinkKind{
		Key:   key,
		Says:  says,
		Shape: func() any { return new(F) },
		Check: func(at shape.Place, raw any) any { return check(at, *raw.(*F)) },
	}
}
